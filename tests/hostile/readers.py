"""Every reader of something that comes from outside: good input to spoil, what reads it, what an accepted value may not be."""

from __future__ import annotations

import dataclasses
import json
import math
import random
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any, Final

import numpy as np
import trimesh
from pydantic import BaseModel

from mandorla.cli import with_edits
from mandorla.core.errors import InputError
from mandorla.core.folders import config_folder
from mandorla.core.logbook.interchange import as_csv, as_json, import_rows, rows_of
from mandorla.core.logbook.records import BY_TABLE
from mandorla.core.logbook.store import Logbook
from mandorla.core.logbook.workshop import Workshop
from mandorla.core.measure.heights import read_matrix
from mandorla.core.measure.log_guess import propose
from mandorla.core.measure.logs import read_log
from mandorla.core.measure.printer import parse_temperatures, set_by
from mandorla.core.part.gcode import read_gcode
from mandorla.core.part.solid_file import read_solid_file
from mandorla.core.project.own_machines import load
from mandorla.core.project.recovery import find_recoverable
from mandorla.core.project.store import Bundle, bundle_bytes, read_bundle
from mandorla.core.rig.power_map import read_power_map
from mandorla.core.rig.room_log import read_room_log
from mandorla.core.run.sliced import compare, corrected, wanted_of
from mandorla.core.sweep.plan import read_plan
from mandorla.ui.preferences import Preferences, load_preferences
from tests.core.bundles import block_gcode, small_bundle
from tests.core.solids import block, stl
from tests.hostile.mutators import JSON, NUMBERS, PLAIN, TEXT, TEXTS, Mutator, json_spoilt, numbers, several, zip_spoilt

HOTTEST: Final = 5000.0  # K; nothing that prints is hotter
LARGEST: Final = 1e3  # m; nothing that is printed is larger


class Nonsense(AssertionError):
    """A value was accepted that cannot be."""


def demand(fine: object, what: str) -> None:
    """Nonsense where it is not so."""
    if not fine:
        raise Nonsense(what)


@dataclass(frozen=True)
class Reader:
    """A reader: its ``name``, ``good`` inputs, what ``read``s one and checks what it accepted, the ``mutators`` that fit it."""

    name: str
    good: Callable[[], list[bytes]]
    read: Callable[[bytes], None]
    mutators: tuple[Mutator, ...]

    def inputs(self, seed: int, count: int, first: int = 0) -> Iterator[bytes]:
        """Spoilt inputs, the same for a seed; from the ``first`` on."""
        good = self.good()
        for n in range(first, first + count):
            rng = random.Random(f"{self.name} {seed} {n}")
            yield several(rng.choice(good), rng, self.mutators)


READERS: dict[str, Reader] = {}


def reader(name: str, good: Callable[[], list[bytes]], mutators: tuple[Mutator, ...]) -> Callable[[Any], Any]:
    """Register a reader."""

    def register(function: Callable[[bytes], None]) -> Callable[[bytes], None]:
        READERS[name] = Reader(name, cache(good), function, mutators)
        return function

    return register


def in_file(data: bytes, ending: str) -> Path:
    """The data as a file that lives as long as the test."""
    handle = tempfile.NamedTemporaryFile(suffix=ending, delete=False)  # noqa: SIM115
    with handle:
        handle.write(data)
    return Path(handle.name)


def finite(value: Any, where: str = "") -> None:
    """Nonsense where a number in a model is not finite."""
    if isinstance(value, BaseModel):
        for name in type(value).model_fields:
            finite(getattr(value, name), f"{where}.{name}")
    elif isinstance(value, dict):
        for key, item in value.items():
            finite(item, f"{where}.{key}")
    elif isinstance(value, list | tuple):
        for item in value:
            finite(item, where)
    elif isinstance(value, float):
        demand(math.isfinite(value), f"{where} is {value}")


# ---- projects and machines
@reader(
    "project",
    lambda: [bundle_bytes(small_bundle())],
    (zip_spoilt(json_spoilt), zip_spoilt(numbers), zip_spoilt(PLAIN[0]), *PLAIN),
)
def project(data: bytes) -> None:
    """A project file."""
    path = in_file(data, ".mandorla")
    try:
        found = read_bundle(path)
        finite(found.project)
        demand(found.project.rig.room_temperature > 0.0, "a room below nought")
        bundle_bytes(found)
    finally:
        path.unlink()


@reader("machine", lambda: [json.dumps(small_bundle().project.rig.model_dump(mode="json")).encode()], JSON)
def machine(data: bytes) -> None:
    """A machine that was kept."""
    path = in_file(data, ".json")
    try:
        finite(load(path))
    finally:
        path.unlink()


# ---- meshes and G-code
def _solid(name: str) -> Callable[[bytes], None]:
    def read(data: bytes) -> None:
        mesh = read_solid_file(data, name, 1e-3)
        demand(np.isfinite(mesh.vertices).all(), "a vertex that is not finite")
        demand(float(np.abs(mesh.vertices).max()) < LARGEST, "a part of a kilometre")
        demand(math.isfinite(mesh.volume) and mesh.volume > 0.0, f"a volume of {mesh.volume}")

    return read


def _exported(kind: str) -> list[bytes]:
    found = []
    for mesh in (trimesh.creation.box((40.0, 30.0, 10.0)), trimesh.creation.cylinder(12.0, 20.0, sections=16)):
        made = mesh.export(file_type=kind)
        found.append(made.encode() if isinstance(made, str) else bytes(made))
    return found


_XML: Final = zip_spoilt(numbers)
reader("stl", lambda: [stl(block(40.0, 30.0, 10.0)), *_exported("stl"), *_exported("stl_ascii")], TEXT)(
    _solid("part.stl")
)
reader("obj", lambda: _exported("obj"), TEXT)(_solid("part.obj"))
reader(
    "3mf",
    lambda: _exported("3mf"),
    (_XML, _XML, zip_spoilt(TEXT[-2]), zip_spoilt(TEXT[-1]), zip_spoilt(PLAIN[1]), *PLAIN),
)(_solid("part.3mf"))

_ARCS: Final = (
    b"G21\nG90\nM82\nM104 S230\nG1 Z0.2 F600\nG1 X10 Y10 E1 F1200\nG2 X20 Y20 I5 J5 E2\nG1 X40 E3\nG1 Y40 E4\nG1 X0 E6\n"
    b"G4 P500\nM106 P1 S99\nT1\nG92 E0\nM600\n"
)


@reader("gcode", lambda: [block_gcode(30.0, 20.0, 2.0), _ARCS, b"G20\nG91\n" + _ARCS], TEXT)
def gcode(data: bytes) -> None:
    """G-code of a part."""
    found = read_gcode(data, "part.gcode")
    for name in ("z", "height", "time", "volume", "fan"):
        values = getattr(found, name)
        demand(np.isfinite(values).all(), f"{name} is not finite")
        demand((values >= 0.0).all(), f"{name} below nought")
    for name in ("nozzle", "bed", "chamber"):
        values = getattr(found, name)
        there = values[np.isfinite(values)]
        demand(not np.isinf(values).any() and (there > 0.0).all() and (there < HOTTEST).all(), f"{name} of {there}")
    demand(0.0 <= found.duration < 1e9 and (np.abs(found.extent) < LARGEST).all(), "kilometres or decades")
    demand((found.fan <= 1.0).all(), "a fan above full")


@reader("sliced", lambda: [block_gcode(30.0, 20.0, 1.2), _ARCS], TEXT)
def sliced(data: bytes) -> None:
    """A sliced file against the plan."""
    p = small_bundle().project
    found = compare(data, wanted_of(p.rig, p.settings, p.process))
    corrected(data, found)


# ---- measurements
_LOG: Final = (
    b"time;bed;chamber;power\n" + b"".join(b"%d;%0.1f;%0.1f;%d\n" % (10 * n, 20 + n, 21 + 0.1 * n, 500 - n) for n in range(60)),
    b"Time,Bed (degF),Plug W\n" + b"".join(b"2026-01-02 10:%02d:00,%d,%d\n" % (n, 70 + n, 300) for n in range(50)),
    b"t\tT1\n0,0\t20,5\n1,0\t21,0\n2,0\t22,5\n3,0\t24,0\n",
)  # fmt: skip


@reader("log", lambda: list(_LOG), TEXT)
def log(data: bytes) -> None:
    """A logger's file, as it is proposed and then read."""
    found = read_log(data, "log.csv", propose(data, "log.csv"))
    demand(np.isfinite(found.time).all(), "a time that is not finite")
    demand((np.diff(found.time) >= 0.0).all(), "time runs backwards")
    for channel, values in zip(found.channels, found.values, strict=True):
        demand(not np.isinf(values).any(), f"{channel.name} is infinite")
        there = values[np.isfinite(values)]
        if channel.what == "temperature" and there.size:
            demand(
                (there > 0.0).all() and (there < HOTTEST).all(), f"{channel.name} of {there.min()} to {there.max()} K"
            )


_MATRIX: Final = b"".join(b",".join(b"%.3f" % (0.01 * i * j - 0.05) for i in range(6)) + b"\n" for j in range(5))
reader("heights", lambda: [_MATRIX, _MATRIX.replace(b",", b"\t"), b"map of the bed\n" + _MATRIX], TEXT)(
    lambda data: demand(not np.isinf(read_matrix(data, "map.csv")).any(), "a height that is infinite")
)
_ROOM: Final = b"hours,room C\n" + b"".join(b"%d,%0.1f\n" % (n, 18 + n % 6) for n in range(24))


@reader("room", lambda: [_ROOM, b"2026-01-01 00:00,18.5\n2026-01-01 06:00,15.0\n2026-01-01 12:00,21\n"], TEXT)
def room(data: bytes) -> None:
    """A log of the room."""
    found = read_room_log(data.decode("utf-8", "replace"), "room.csv")
    for time, temperature in found:
        demand(math.isfinite(time) and time >= 0.0, f"a time of {time}")
        demand(0.0 < temperature < HOTTEST, f"a room of {temperature} K")


@reader("power", lambda: [b"1,2,3\n2,3,4\n1,1,1\n", b"0.5;1\n1;0.5\n"], TEXT)
def power(data: bytes) -> None:
    """A map of the heater's power."""
    for row in read_power_map(data.decode("utf-8", "replace")):
        demand(all(math.isfinite(v) and v >= 0.0 for v in row), f"a power of {row}")


# ---- what the program keeps itself
@reader("preferences", lambda: [json.dumps(dataclasses.asdict(Preferences(recent=["a", "b"]))).encode()], JSON)
def preferences(data: bytes) -> None:
    """The file of preferences: whatever stands in it, there are preferences."""
    config_folder().mkdir(parents=True, exist_ok=True)
    (config_folder() / "preferences.json").write_bytes(data)
    found = load_preferences()
    demand(1.0 <= found.scale <= 2.0 and 0.0 < found.risk < 1.0, f"{found}")
    dataclasses.asdict(found)


@reader(
    "recovery",
    lambda: [b'{"pid": 99999999, "started": "1", "at": 1767225600.0, "original": "/tmp/x", "name": "A"}'],
    JSON,
)
def recovery(data: bytes) -> None:
    """A recovery copy's note: whatever stands in it, the copy is offered or its owner lives."""
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "session-1-1.mandorla").write_bytes(b"x")
        (Path(folder) / "session-1-1.json").write_bytes(data)
        for found in find_recoverable(Path(folder)):
            demand(math.isfinite(found.kept_at), "kept at no time")


# ---- the logbook
@cache
def _book() -> tuple[bytes, dict[str, bytes]]:
    with tempfile.TemporaryDirectory() as folder:
        workshop = Workshop(Path(folder) / "a.db")
        workshop.machine("Bench")
        workshop.plate("Sheet", "polyetherimide_textured")
        workshop.spool("Grey", "asa")
        return as_json(workshop.book).encode(), {t: as_csv(workshop.book, t).encode() for t in BY_TABLE}


@reader("logbook", lambda: [_book()[0]], JSON)
def logbook(data: bytes) -> None:
    """An export, taken into a book."""
    path = in_file(data, ".json")
    try:
        rows = rows_of(path)
        with tempfile.TemporaryDirectory() as folder:
            book = Logbook(Path(folder) / "b.db")
            import_rows(book, rows)
            as_json(book)
    finally:
        path.unlink()


@reader(
    "logbook-csv",
    lambda: [t + b"\0" + d for t, d in ((k.encode(), v) for k, v in _book()[1].items()) if d.count(b"\n") > 1],
    TEXT,
)
def logbook_csv(data: bytes) -> None:
    """A table as CSV; its name stands before it."""
    table, _, text = data.partition(b"\0")
    name = table.decode("utf-8", "replace")
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / f"{name if name in BY_TABLE else 'machine'}.csv").write_bytes(text)
        rows_of(Path(folder))


# ---- devices, plans, the command line
_LINES: Final = (
    b"ok T:201.5 /210.0 B:60.1 /60.0 C:35.0 /0.0 @:64 B@:127\nM140 S60\nM104 S200.5\n",
    b"T:20.0 /0.0 B:21.0 /0.0\nM141 S50\n",
)


@reader("printer", lambda: list(_LINES), TEXT)
def printer(data: bytes) -> None:
    """Lines of a printer."""
    for line in data.decode("utf-8", "replace").splitlines():
        try:
            set_by(line)
            found = parse_temperatures(line)
        except InputError:
            continue
        for value in dataclasses.astuple(found):
            demand(value is None or (math.isfinite(value) and abs(value) < HOTTEST), f"{line[:80]!r} gives {value}")


_PLAN: Final = b"""projects = ["one.mandorla"]
[[vary]]
path = "settings.bed_rest"
values = ["90 degC", 368.15]
[[vary]]
path = "settings.fan"
first = 0.0
last = 0.4
steps = 2
"""


@reader("plan", lambda: [_PLAN], TEXT)
def plan(data: bytes) -> None:
    """A plan of a sweep."""
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "one.mandorla").write_bytes(bundle_bytes(small_bundle()))
        (Path(folder) / "plan.toml").write_bytes(data)
        read_plan(Path(folder) / "plan.toml")


@cache
def _paths() -> list[bytes]:
    def inside(model: BaseModel, path: str) -> Iterator[str]:
        for name in type(model).model_fields:
            value, here = getattr(model, name), f"{path}{name}"
            yield here
            if isinstance(value, BaseModel):
                yield from inside(value, f"{here}.")
            elif isinstance(value, tuple):
                for n, item in enumerate(value):
                    yield f"{here}.{n}"
                    if isinstance(item, BaseModel):
                        yield from inside(item, f"{here}.{n}.")

    return [f"{p}=1".encode() for p in inside(small_bundle().project, "")]


def edit_spoilt(data: bytes, rng: random.Random) -> bytes:
    """Another value, now and then another path."""
    path = data.partition(b"=")[0].decode("utf-8", "replace")
    if rng.random() < 0.1:
        path = rng.choice(
            (path + ".x", path + ".0", path.partition(".")[2], "", "__class__", f"{path}.__dict__", path.upper())
        )
    value = rng.choice((*NUMBERS, *TEXTS, "60 degC", "3 mm", "1e9 K", "true", "off", "[1, 2]", "100 %", "-40 degF"))
    return f"{path}={value}".encode("utf-8", "replace")


@reader("set", _paths, (edit_spoilt,))
def set_value(data: bytes) -> None:
    """A value on the command line, for every path there is."""
    bundle = small_bundle()
    found = with_edits(Bundle(bundle.project, bundle.originals), [data.decode("utf-8", "replace")])
    finite(found.project)
