"""Full runs kept in the project file: as arrays without code in them, with what tells whether they still belong to the project."""

from __future__ import annotations

import io
import json
import zipfile
import zlib
from collections.abc import Mapping
from dataclasses import asdict
from typing import TYPE_CHECKING, Any, Final

import numpy as np

from mandorla import __version__
from mandorla.core.errors import InputError
from mandorla.core.project.models import MOST_RUNS, KeptRun, Project
from mandorla.core.project.store import LARGEST_FILE, Bundle
from mandorla.core.results.key import Key
from mandorla.core.results.keys import FULL_RUN

if TYPE_CHECKING:
    from mandorla.core.results.types import FullRun

SUFFIX: Final = ".npz"
_ABOUT: Final = "about"
_ARRAYS: Final = (
    "height", "lift", "detached", "plate_lift", "margin", "printed", "cooled", "released", "damage", "utilisation", "foot", "crack",
)  # fmt: skip
_PLAIN: Final = (
    "resolution",
    "cold_detached",
    "stopped",
    "iterations",
    "solves",
    "seconds",
    "notes",
    "layer_height",
)


def key_of(run: KeptRun) -> Key[FullRun]:
    """The result that a kept run is of."""
    return FULL_RUN.of(resolution=run.resolution, bodies=run.bodies)


def check_room(project: Project) -> None:
    """Refuse one more run where a project keeps as many as it can, before it is simulated. Raises :class:`InputError`."""
    if len(project.runs) >= MOST_RUNS:
        raise InputError(f"A project keeps {MOST_RUNS} full runs: remove one first.")


def entry_of(key: Key[FullRun], digest: bytes, day: str, project: Project, says: str) -> KeptRun:
    """How a run is listed in the project: under a key and a file name that are free there.

    Parameters
    ----------
    key, digest
        What the run is the result of, and the digest of what it was computed from.
    day
        ISO 8601 date.
    project
        The project that keeps it.
    says
        What it found, in a sentence.

    Raises
    ------
    InputError
        There are as many as a project keeps.
    """
    check_room(project)
    taken = {run.key for run in project.runs}
    name = next(f"run-{n}" for n in range(1, MOST_RUNS + 2) if f"run-{n}" not in taken)
    return KeptRun(
        key=name, file=name + SUFFIX, resolution=key["resolution"], bodies=key["bodies"], digest=digest.hex(),
        version=__version__, date=day, says=says[:400],
    )  # fmt: skip


def without(project: Project, key: str) -> tuple[KeptRun, ...]:
    """The runs of a project but one."""
    return tuple(run for run in project.runs if run.key != key)


def encoded(found: FullRun) -> bytes:
    """A finished run as a compressed archive of arrays and a JSON text; see docs/file-format.md."""
    arrays: dict[str, Any] = {name: getattr(found, name) for name in _ARRAYS}
    arrays["solid"] = found.voxels.solid
    if found.growth:
        arrays["growth"] = np.concatenate(found.growth)
        arrays["growth_planes"] = np.array([g.shape[0] for g in found.growth])
    if found.plate is not None:
        arrays |= {f"plate_{name}": getattr(found.plate, name) for name in found.plate._fields}
    if found.owner is not None:
        arrays["owner"] = found.owner
    v = found.voxels
    about = {name: getattr(found, name) for name in _PLAIN} | {
        "voxels": {"size": v.size, "origin": v.origin, "missed": v.missed, "rough": v.rough},
        "corners": [asdict(corner) for corner in found.corners],
    }
    arrays[_ABOUT] = np.frombuffer(json.dumps(about).encode(), dtype=np.uint8)
    out = io.BytesIO()
    np.savez_compressed(out, allow_pickle=False, **arrays)
    return out.getvalue()


def decoded(data: bytes, name: str) -> FullRun:
    """A run from its archive. Raises :class:`InputError` for one that is damaged, too large, or does not fit together."""
    from mandorla.core.part.sections import Corner
    from mandorla.core.warp.fe_result import FullRun, PlateMap
    from mandorla.core.warp.voxels import Voxels

    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            if sum(entry.file_size for entry in archive.infolist()) > LARGEST_FILE:
                raise ValueError("it is too large")
        with np.load(io.BytesIO(data), allow_pickle=False) as stored:
            arrays = {key: stored[key] for key in stored.files}
        about = json.loads(arrays[_ABOUT].tobytes())
        box = about["voxels"]
        voxels = Voxels(
            arrays["solid"].astype(bool), tuple(box["size"]), tuple(box["origin"]), box["missed"], box["rough"]
        )
        plate = PlateMap(*(arrays[f"plate_{n}"] for n in PlateMap._fields)) if "plate_x" in arrays else None
        plain = {key: about[key] for key in _PLAIN}
        found = FullRun(
            voxels=voxels, corners=tuple(Corner(**c) for c in about["corners"]), growth=_growth(arrays), plate=plate,
            owner=arrays.get("owner"), **(plain | {"notes": tuple(plain["notes"])}), **{key: arrays[key] for key in _ARRAYS},
        )  # fmt: skip
        _check(found)
    except (ValueError, LookupError, TypeError, OSError, EOFError, zipfile.BadZipFile, zlib.error) as error:
        raise InputError(f"The kept run “{name}” is damaged: {error}.") from None
    for array in arrays.values():
        array.setflags(write=False)
    return found


def _growth(arrays: Mapping[str, np.ndarray]) -> tuple[np.ndarray, ...]:
    if "growth" not in arrays:
        return ()
    ends = np.cumsum(arrays["growth_planes"])
    if ends[-1] != arrays["growth"].shape[0]:
        raise ValueError("its growth is cut off")
    return tuple(np.split(arrays["growth"], ends[:-1]))


def _check(found: FullRun) -> None:
    """Refuse arrays that do not fit each other. Raises ValueError."""
    solid = found.voxels.solid
    if solid.ndim != 3:
        raise ValueError("its boxes have no three sides")
    nodes = tuple(n + 1 for n in solid.shape)
    states = (found.printed, found.cooled, found.released)
    fits = (
        all(state.shape == (*nodes, 3) and np.isfinite(state).all() for state in states)
        and all(a.shape == nodes[1:] for a in (found.damage, found.utilisation, found.foot))
        and found.lift.shape == found.margin.shape == (found.height.size, len(found.corners))
        and found.height.size == found.detached.size == found.plate_lift.size > 0
        and (found.owner is None or found.owner.shape == nodes[1:])
    )
    if not fits:
        raise ValueError("its arrays do not fit each other")


def opened(bundle: Bundle, run: KeptRun) -> FullRun:
    """A kept run of a project. Raises :class:`InputError` when it is damaged."""
    return decoded(bundle.originals[run.file], f"{run.resolution}, {run.date}")


def belongs(run: KeptRun, digest: bytes) -> bool:
    """Whether a kept run is of the state that a digest stands for, computed by this very version."""
    return run.version == __version__ and run.digest == digest.hex()


def kept_entry(project: Project, name: str) -> KeptRun:
    """A kept run by its key. Raises :class:`InputError` where there is none."""
    found = next((run for run in project.runs if run.key == name), None)
    if found is None:
        raise InputError("This run is no longer kept in the project.")
    return found
