"""Zip archives that come from outside: what they unpack to is known before anything is read."""

from __future__ import annotations

import zipfile
from typing import Final

from mandorla.core.errors import InputError

MOST_BYTES: Final = 512 << 20  # of all entries, unpacked
MOST_ENTRIES: Final = 2000
_RATIO: Final = 250  # unpacked over packed; text of a mesh of one number comes to 200
_LARGE: Final = 8 << 20  # below it the ratio does not matter
_READ: Final = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED)


def check_archive(archive: zipfile.ZipFile, what: str) -> None:
    """Refuse an archive that is too large, packed too well, of too many or doubled entries, of entries longer than itself,
    encrypted or packed in another way.

    Raises
    ------
    InputError
        With the entry and the reason.
    """
    entries = archive.infolist()
    if len(entries) > MOST_ENTRIES:
        raise InputError(f"{what} has {len(entries)} entries; {MOST_ENTRIES} are the most that are taken.")
    seen: set[str] = set()
    total = 0
    for entry in entries:
        name = entry.filename[:80]
        if entry.filename in seen:
            raise InputError(f"{what} has its entry “{name}” twice.")
        seen.add(entry.filename)
        if entry.flag_bits & 0x1:
            raise InputError(f"{what} is encrypted (“{name}”).")
        if entry.compress_type not in _READ:
            raise InputError(f"{what}: “{name}” is packed in a way that is not read ({entry.compress_type}).")
        if entry.header_offset + entry.compress_size > archive.start_dir:  # room for it would be made before it is read
            raise InputError(f"{what} is damaged: “{name}” says that it is longer than the file.")
        total += entry.file_size
        if entry.file_size > _LARGE and entry.file_size > _RATIO * max(entry.compress_size, 1):
            raise InputError(
                f"{what}: “{name}” unpacks to {entry.file_size / max(entry.compress_size, 1):.0f} times its size."
            )
    if total > MOST_BYTES:
        raise InputError(f"{what} unpacks to {total >> 20} MB; {MOST_BYTES >> 20} MB are the most that are taken.")
