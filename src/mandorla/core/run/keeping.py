"""A watched run as the project keeps it: its record, and its trace among the originals; also of one that a kill has cut off."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Final

from mandorla.core.errors import InputError
from mandorla.core.run.alarm_words import alarm_sentence, words_of
from mandorla.core.run.disturbances import DISTURBANCES
from mandorla.core.run.learned import lessons, notes_of
from mandorla.core.run.live import LiveRun
from mandorla.core.run.model import AlarmNote, RunRecord
from mandorla.core.run.recorder import ABOUT, EVENTS, TRACE
from mandorla.core.run.watch import OTHER, SLOWER

_MOST: Final = 200  # alarms that a record keeps
_LONGEST: Final = 89 * 86400.0


def _seconds(value: float) -> float:
    return min(max(value, 0.0), _LONGEST) if math.isfinite(value) else 0.0


def record_of(live: LiveRun, file: str, ended: str) -> RunRecord:
    """The record of a run that was watched here; ``file`` is its trace's name among the originals."""
    alarms = tuple(
        AlarmNote(
            time=_seconds(a.time), cause=a.cause, probability=a.causes[0].probability if a.causes else 1.0,
            text=alarm_sentence(a)[:600],
        )
        for a in live.alarms[-_MOST:]
    )  # fmt: skip
    taught = notes_of(lessons(live.watch.tracker)) if live.watch.teaches else ()
    return RunRecord(
        key=live.began.strftime("run-%Y%m%d-%H%M%S"), began=live.began.isoformat(timespec="seconds"),
        lasted=_seconds(live.source.now), source=live.source.name[:120], file=file, ended=ended,
        planned_ready=_seconds(live.planned.median), ready=_seconds(live.passed.get("ready", math.nan)),
        alarms=alarms, learned=taught,
    )  # fmt: skip


def record_from(folder: Path, file: str) -> tuple[RunRecord, bytes]:
    """The record of a run whose watch was cut off, from what it had written, and its trace. Raises :class:`InputError`."""
    try:
        about = json.loads((folder / ABOUT).read_text(encoding="utf-8"))
        trace = (folder / TRACE).read_bytes()
        lines = (folder / EVENTS).read_text(encoding="utf-8").splitlines()
    except (OSError, ValueError) as error:
        raise InputError(f"The record in “{folder.name}” cannot be read: {error}.") from None
    trace = trace[: trace.rfind(b"\n") + 1]  # a line that was cut off
    rows = trace.splitlines()
    lasted = float(rows[-1].split(b",")[0]) if len(rows) > 1 else 0.0
    alarms = []
    for line in lines:
        try:
            event = json.loads(line)
            cause = str(event["text"])
            known = " ".join(words_of(cause)[:2]) if cause in (OTHER, SLOWER, *DISTURBANCES) else cause
            alarms.append(AlarmNote(
                time=_seconds(float(event["time"])), cause=cause[:60], text=known[:600],
                probability=min(max(float(event.get("probability", 1.0)), 0.0), 1.0),
            ))  # fmt: skip
        except (ValueError, KeyError, TypeError):
            continue  # a line that was cut off
    began = str(about.get("began", ""))[:40]
    return RunRecord(
        key=f"run-{folder.name}"[:40], began=began if len(began) >= 10 else "unknown day", lasted=_seconds(lasted),
        source=str(about.get("source", ""))[:120], file=file, ended="cut off", alarms=tuple(alarms[-_MOST:]),
    ), trace  # fmt: skip
