"""``mandorla fit``: the rig fitted to measurements: what was learned, what cannot be told apart, what to measure next."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mandorla.cli.command import Call, Command, Output
from mandorla.cli.output import as_json, as_text
from mandorla.core.errors import InputError
from mandorla.core.input_file import bytes_of
from mandorla.core.measure.log_guess import open_questions, propose, with_unit
from mandorla.core.measure.models import LogMapping, Session, StoredLog
from mandorla.core.measure.records import fit_sentence
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.results.keys import FIT
from mandorla.core.results.results import Results
from mandorla.core.results.verify import sessions_named
from mandorla.core.runtime import RunContext

if TYPE_CHECKING:
    from mandorla.core.results.types import RigFit


class LearnedRow(Output):
    """One unknown before and after the fit."""

    name: str
    before: str
    after: str
    z: float
    range_left: float
    at_bound: bool


class TiedRow(Output):
    """Two unknowns that cannot be told apart."""

    one: str
    other: str
    correlation: float


class NextRow(Output):
    """A measurement that would help."""

    what: str
    helps: str
    range_left: float


class SeriesRow(Output):
    """One series before and after the fit."""

    name: str
    session: str
    rms_before: float
    rms_after: float
    offset: float


class FitOutput(Output):
    """What ``mandorla fit --json`` prints."""

    status: str
    sentence: str
    warnings: list[str]
    learned: list[LearnedRow]
    correlation: list[list[float]]
    tied: list[TiedRow]
    not_identifiable: list[str]
    measure_next: list[NextRow]
    series: list[SeriesRow]
    birge: float


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--session", default=None, help="one session by its name or key; all of them by default")
    parser.add_argument(
        "logs", type=Path, nargs="*", metavar="LOG.csv", help="further logs, beginning when heating began"
    )
    log_arguments(parser)
    parser.add_argument("--unknown", action="append", default=[], help="fit this unknown only; may be repeated")
    parser.add_argument("--write", type=Path, default=None, metavar="FILE.mandorla", help="write the fitted project")


def log_arguments(parser: argparse.ArgumentParser) -> None:
    """What a person says of logs whose headings do not."""
    parser.add_argument(
        "--log-unit", choices=("degC", "degF", "K"), default=None, help="of temperatures whose headings do not say it"
    )
    parser.add_argument(
        "--log-place", action="append", default=[], metavar="COLUMN=PLACE",
        help="what a column with an unknown heading measured: surface, sensor, upper air, lower air, frame, room, or nothing",
    )  # fmt: skip


def mapping_of(path: Path, data: bytes, unit: str | None, places: Sequence[str]) -> LogMapping:
    """How a log is read, with what a person said of it. Raises :class:`InputError` where its headings leave something open."""
    mapping = with_unit(propose(data, path.name), unit, places)
    questions = open_questions(mapping, data, path.name)
    if questions:
        raise InputError(f"“{path}” leaves open: {' '.join(questions)} Say it with --log-unit or --log-place.")
    return mapping


def with_logs(bundle: Bundle, logs: Sequence[Path], day: str, unit: str | None, places: Sequence[str]) -> Bundle:
    """The project with a session for every log file, at the project's settings and in its room.

    Raises
    ------
    InputError
        A file that cannot be read or is no log; a heading or unit that is only guessed.
    """
    project, originals = bundle.project, dict(bundle.originals)
    sessions = list(project.measurements.sessions)
    names = {s.name for s in sessions}
    for path in logs:
        data = bytes_of(path)
        mapping = mapping_of(path, data, unit, places)
        file, number = path.name[-100:], 2
        while file in originals:  # two logs of one name in different folders are two logs
            file, number = f"{path.stem[-90:]}-{number}{path.suffix}", number + 1
        name, number = path.stem[:50], 2
        while name in names:
            name, number = f"{path.stem[:50]} ({number})", number + 1
        originals[file] = data
        names.add(name)
        sessions.append(
            Session(
                name=name, date=day, bed=project.settings.bed_first, chamber=project.settings.chamber,
                room=project.rig.start_temperature, logs=(StoredLog(name=name, file=file, mapping=mapping),),
            )
        )  # fmt: skip
    measurements = type(project.measurements).model_validate(
        {**project.measurements.model_dump(), "sessions": [s.model_dump() for s in sessions]}
    )
    return Bundle(project.model_copy(update={"measurements": measurements}), originals)


def answer(fit: RigFit, used: Sequence[str]) -> dict[str, Any]:
    """A fit as one object."""
    return {
        "status": fit.status,
        "sentence": f"Fitted to {', '.join(used)}. {fit_sentence(fit)}",
        "warnings": list(fit.warnings),
        "learned": [
            {"name": v.name, "before": v.before, "after": v.after, "z": v.z, "range_left": v.share, "at_bound": v.at_bound}
            for v in fit.learned
        ],
        "correlation": [[float(c) for c in row] for row in fit.correlation],
        "tied": [{"one": a, "other": b, "correlation": r} for a, b, r in fit.tied],
        "not_identifiable": list(fit.unlearned),
        "measure_next": [{"what": w, "helps": n, "range_left": left} for w, n, left in fit.advice],
        "series": [
            {"name": s.observation.name, "session": s.session, "rms_before": s.rms_before, "rms_after": s.rms_after,
             "offset": s.offset}
            for s in fit.series
        ],
        "birge": fit.birge,
    }  # fmt: skip


def run(call: Call) -> int:
    """Fit, print, and write the fitted project where that was asked for."""
    options, day = call.options, date.today().isoformat()
    bundle = with_logs(call.bundle, options.logs, day, options.log_unit, options.log_place)
    known = {s.key for s in call.project.measurements.sessions}
    own = [s for s in bundle.project.measurements.sessions if s.key not in known]
    chosen = [*sessions_named(bundle, options.session), *own] if options.session is not None else own
    if not options.logs:
        chosen = list(sessions_named(bundle, options.session))
    asked = FIT.of(
        sessions=tuple(s.key for s in chosen), unknowns=tuple(options.unknown) or None, day=day, units=call.units
    )
    found = Results(bundle).get(asked, RunContext())
    told = answer(found, [s.name for s in chosen])
    if call.json:
        as_json(told)
    else:
        as_text(told, call.units)
        for text in found.warnings:
            print(f"  note: {text}")
    if options.write is not None:
        write_bundle(options.write, Bundle(call.project.model_copy(update={"rig": found.rig}), call.bundle.originals))
    return 0


COMMAND = Command(
    "fit", "the rig fitted to logs: what was learned, what cannot be told apart, what to measure next", run, _arguments, FitOutput
)  # fmt: skip
