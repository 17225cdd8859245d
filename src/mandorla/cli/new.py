"""``mandorla new``: a project from a few facts about a machine, with a part and a polymer; the first answer."""

from __future__ import annotations

import argparse
import math
import re
from dataclasses import asdict
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Final

from mandorla.cli.command import Command, Output, experience_for
from mandorla.cli.fit import log_arguments, mapping_of
from mandorla.cli.output import UNITS, as_json
from mandorla.core.errors import InputError
from mandorla.core.failure.words import headline
from mandorla.core.input_file import bytes_of
from mandorla.core.part.mesh import UNITS as MESH_UNITS
from mandorla.core.project.facts import facts_of, unstated
from mandorla.core.project.store import write_bundle
from mandorla.core.results.keys import EVALUATION, FIRST_TO_MEASURE, SETTINGS_CHECK
from mandorla.core.results.results import Results
from mandorla.core.rig.archetypes import ARCHETYPES, USUAL_POLYMER, assumptions
from mandorla.core.units import KINDS, parse_quantity, show, show_duration

_SIZE: Final = re.compile(r"^\s*([\d.]+)\s*[x×]\s*([\d.]+)(?:\s*[x×]\s*([\d.]+))?\s*([a-zA-Z]+)?\s*$")


class AssumedOutput(Output):
    """Something that was assumed of the machine."""

    path: str
    what: str
    why: str


class MeasureOutput(Output):
    """What is worth measuring first: by how much (K) it moves the surface."""

    name: str
    moves: float


class LogOutput(Output):
    """A figure as the heat-up log has it (SI), with its 90 % band; ``learned``: the log says more of it than was known."""

    key: str
    name: str
    kind: str
    before: float
    value: float
    low: float
    high: float
    learned: bool


class NewOutput(Output):
    """What ``mandorla new --json`` prints."""

    status: str
    sentence: str
    file: str
    assumed: list[AssumedOutput]
    measure_first: list[MeasureOutput]
    log: list[LogOutput]
    log_misfit: float | None
    log_built: list[str]


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--kind",
        choices=tuple(ARCHETYPES),
        default="closed",
        help="; ".join(f"{k}: {v}" for k, v in ARCHETYPES.items()),
    )
    parser.add_argument("--bed", required=True, metavar="WxD", help="350x350mm")
    parser.add_argument("--plate", default="", help="thickness of the aluminium plate, 6mm; else usual for the kind")
    parser.add_argument("--surface", default="", help="key of what is printed on; else usual for the kind")
    parser.add_argument("--heater", default="", help="bed heater, 900W; else usual for its size")
    parser.add_argument("--bed-max", default="", help="highest set point of the bed; else usual for the kind")
    parser.add_argument("--chamber", default="", metavar="WxDxH", help="inner size, 500x500x600mm")
    parser.add_argument("--chamber-heater", default="", help="400W, 0W for none; else usual for the kind")
    parser.add_argument("--chamber-max", default="", help="highest temperature of the chamber; else usual for the kind")
    parser.add_argument("--room", default="21degC")
    parser.add_argument("--name", default="My machine", help="the machine's name")
    parser.add_argument(
        "--log", type=Path, metavar="FILE.csv", help="log of one heat-up: heater, plate and losses as it has them"
    )
    log_arguments(parser)
    parser.add_argument("--part", type=Path, metavar="PART.stl")
    parser.add_argument("--unit", choices=tuple(MESH_UNITS), default="mm", help="of the mesh")
    parser.add_argument("--polymer", default="", help="key of the polymer; else usual for the kind")
    parser.add_argument("-o", "--output", type=Path, required=True, metavar="FILE.mandorla")
    parser.add_argument("--units", choices=sorted(UNITS), default="metric", help="of the text")
    parser.add_argument(
        "--logbook", type=Path, metavar="BOOK", help="predict by this book's prints; else the workshop's own"
    )
    parser.add_argument(
        "--no-check", action="store_true", help="do not wait for a full simulation: the quick estimate's answer"
    )
    parser.add_argument("--json", action="store_true", help="print one JSON object")


def sizes(text: str, count: int, what: str) -> list[float]:
    """Lengths (m) of ``350x350mm``. Raises :class:`InputError`."""
    m = _SIZE.match(text)
    given = [v for v in m.groups()[:3] if v is not None] if m is not None else []
    if m is None or len(given) != count:
        form = "W x D, as in 350x350mm" if count == 2 else "W x D x H, as in 500x500x600mm"
        raise InputError(f"{what} “{text}”: write {form}.")
    unit = m.group(4) or "mm"
    return [parse_quantity(f"{v} {unit}", "length", KINDS["length"][0], what) for v in given]


def _read(text: str, kind: str, what: str) -> float:
    return parse_quantity(text, kind, KINDS[kind][0], what)


def run(options: argparse.Namespace) -> int:
    """Make the project, write it, say what it says. Raises :class:`InputError`."""
    width, depth = sizes(options.bed, 2, "--bed")
    values: dict[str, Any] = {
        "kind": options.kind, "name": options.name, "width": width, "depth": depth,
        "room": _read(options.room, "temperature", "--room"),
    }  # fmt: skip
    if options.surface:
        values["surface"] = options.surface
    for name, kind in (
        ("plate", "length"), ("bed_max", "temperature"), ("chamber_max", "temperature"), ("heater", "power"),
        ("chamber_heater", "power"),
    ):  # fmt: skip
        text = getattr(options, name)
        if text:
            values[name] = _read(text, kind, f"--{name.replace('_', '-')}")
    if options.chamber:
        for key, value in zip(("width", "depth", "height"), sizes(options.chamber, 3, "--chamber"), strict=True):
            values[f"chamber_{key}"] = value
    facts, part = facts_of(values), None
    if options.part is not None:
        part = (options.part.name, bytes_of(options.part), MESH_UNITS[options.unit])
    from mandorla.core.project.begin import begun_project, log_lines, machine_from_log  # the numerics load here

    log = None
    if options.log is not None:
        name, data = options.log.name, bytes_of(options.log)
        stated = frozenset(k for k in ("heater", "plate") if getattr(options, k))
        mapping = mapping_of(options.log, data, options.log_unit, options.log_place)
        log = machine_from_log(facts, stated, name, data, mapping, datetime.now(UTC).date().isoformat())
    bundle = begun_project(facts, options.polymer or USUAL_POLYMER[facts.kind], part, log=log)
    results, prefs = Results(bundle, None, experience_for(bundle, options)), UNITS[options.units]
    e = results.get(EVALUATION)
    judgement = e.judgement
    if e.part is not None:
        if not options.no_check:  # as every command that judges
            results.get(SETTINGS_CHECK)
        judgement = results.get(results.judgement_key())
        sentence = headline(judgement, prefs)
    elif math.isfinite(e.ready_time):
        sentence = f"Ready in {show_duration(e.ready_time)}; there is no part yet."
    else:
        sentence = "It does not get ready at these set points: mandorla heatup says why."
    write_bundle(options.output, bundle)
    learned = {} if log is None else {s.key: s for s in log.says}
    assumed = [
        *unstated(facts, {**values, **learned}),
        *assumptions(facts, bundle.project.rig, () if log is None else log.told),
    ]
    first = results.get(FIRST_TO_MEASURE)
    if options.json:
        as_json({
            "status": judgement.whole.value, "sentence": sentence, "file": str(options.output),
            "assumed": [a._asdict() for a in assumed],
            "measure_first": [{"name": m.name, "moves": m.moves} for m in first[:5]],
            "log": [asdict(s) for s in learned.values()],
            "log_misfit": None if log is None else log.misfit,
            "log_built": [] if log is None else [b.words for b in log.built],
        })  # fmt: skip
        return 0
    print(sentence)
    print(f"written: {options.output}")
    for line in () if log is None else log_lines(log, prefs):
        print(f"  the log: {line}")
    for a in assumed:
        print(f"  assumed: {a.what} ({a.why})")
    for m in first[:3]:
        print(f"  measure first: {m.name}, it moves the surface by {show(m.moves, 'temperature_difference', prefs)}")
    return 0


COMMAND = Command("new", "a project from a few facts about a machine", None, _arguments, NewOutput, run)
