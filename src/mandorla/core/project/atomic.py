"""Files written whole or not at all: completed and flushed beside the target, then renamed over it, then the folder flushed."""

from __future__ import annotations

import contextlib
import os
import re
import stat
import tempfile
import time
from glob import escape
from pathlib import Path
from typing import Final, Literal

from mandorla.core.errors import LinkedFileError, ProjectFileError

Linked = Literal["refuse", "apart", "together"]
PRIVATE: Final = 0o600
_PART: Final = ".part"
_OLD: Final = 3600.0  # s, after which what another program left half written is nobody's any more


def target_of(path: Path) -> tuple[Path, os.stat_result | None]:
    """The file that is written when ``path`` is, links followed, and what is known of it (None: it is new).

    Raises
    ------
    ProjectFileError
        A target that is no file (a device, a pipe, a folder), or in no folder that one could write to.
    """
    target = Path(os.path.realpath(path))
    try:
        found = target.stat()
    except FileNotFoundError:
        if not target.parent.is_dir():
            raise ProjectFileError(f"“{path}” cannot be written: there is no such folder.") from None
        return target, None
    except OSError as error:
        raise ProjectFileError(f"“{path}” cannot be written: {error.strerror}") from error
    if not stat.S_ISREG(found.st_mode):
        raise ProjectFileError(f"“{path}” is no ordinary file: nothing is written over it.")
    return target, found


def write_atomically(path: Path, data: bytes, *, mode: int | None = None, linked: Linked = "refuse") -> None:
    """Write a file completed and flushed beside the target and then renamed over it.

    A symbolic link is followed to its target; mode and owner of a file that is replaced are kept as far as they may be.

    Parameters
    ----------
    path, data
        The file and all of its bytes.
    mode
        Permissions; by default those of the file that is replaced, for a new one the user's usual ones.
    linked
        What to do with a file that has further names (hard links): ``refuse``, write it ``apart`` (the other names keep the old
        content), or all ``together`` (written in place, after a whole copy beside it is safe).

    Raises
    ------
    LinkedFileError
        A file with further names, where ``linked`` refuses.
    ProjectFileError
        A target that is no file (a device, a pipe, a folder), or that cannot be written; nothing is left behind then.
    """
    target, found = target_of(path)
    if found is not None and found.st_nlink > 1 and linked == "refuse":
        raise LinkedFileError(
            f"“{path}” is one file with {found.st_nlink} names: replacing it here would leave the others with what they hold now."
        )
    try:
        handle, temporary = tempfile.mkstemp(
            prefix=f".{target.name[:80]}.{os.getpid()}.", suffix=_PART, dir=target.parent
        )
    except OSError as error:
        raise ProjectFileError(f"“{path}” cannot be written: {error.strerror}") from error
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
            stream.flush()
            os.fsync(stream.fileno())
        if linked == "together" and found is not None and found.st_nlink > 1:
            _over(target, data)
            os.unlink(temporary)
        else:
            _like(Path(temporary), found, mode)
            os.replace(temporary, target)
    except OSError as error:
        Path(temporary).unlink(missing_ok=True)
        raise ProjectFileError(f"“{path}” cannot be written: {error.strerror}") from error
    _flush_folder(target.parent)
    sweep(target.parent, target.name)


def _like(temporary: Path, found: os.stat_result | None, mode: int | None) -> None:
    """Give a file mode and owner of the one that it replaces."""
    if found is not None and (found.st_uid, found.st_gid) != (os.geteuid(), os.getegid()):
        with contextlib.suppress(PermissionError):  # only the superuser gives files away
            os.chown(temporary, found.st_uid, found.st_gid)
    usual = _usual_mode() if found is None else stat.S_IMODE(found.st_mode)
    os.chmod(temporary, usual if mode is None else mode)


def _over(target: Path, data: bytes) -> None:
    """Write over the bytes of a file, which keeps all of its names."""
    with open(target, "r+b") as stream:
        stream.write(data)
        stream.truncate()
        stream.flush()
        os.fsync(stream.fileno())


def _flush_folder(folder: Path) -> None:
    with contextlib.suppress(OSError):  # some network folders cannot; the file itself is written
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def _usual_mode() -> int:
    """The mode of a new file under the user's mask."""
    mask = os.umask(0)
    os.umask(mask)
    return 0o666 & ~mask


def sweep(folder: Path, name: str = "") -> int:
    """Remove what a killed program left half written in a folder (of a file of a ``name`` only): its writer no longer runs, and an
    hour has passed, for another computer may be at work; how many files it was."""
    count = 0
    for path in folder.glob(f".{escape(name[:80])}*{_PART}"):
        number = re.search(r"\.(\d+)\.[^.]*\.part$", path.name)
        with contextlib.suppress(OSError):  # gone meanwhile, or not ours to remove
            gone = number is not None and not Path(f"/proc/{number.group(1)}").exists()
            if gone and time.time() - path.stat().st_mtime > _OLD:
                path.unlink()
                count += 1
    return count


def stamp_of(path: Path) -> tuple[int, int] | None:
    """What tells whether a file is still the one that was read or written: its time (ns) and size; None without a file."""
    try:
        found = Path(path).stat()
    except OSError:
        return None
    return found.st_mtime_ns, found.st_size
