"""What a verification says, in words, and the record that is kept of it."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, Final

from mandorla.core.measure.models import RecordRow, VerificationRecord
from mandorla.core.measure.verdicts import AGREES, DISAGREES, DOUBTFUL
from mandorla.core.rig.fitted import mark_of
from mandorla.core.rig.model import Rig
from mandorla.core.units import METRIC, UnitPreferences, show, show_duration, show_number

if TYPE_CHECKING:
    from mandorla.core.measure.compare import Comparison, Row
    from mandorla.core.measure.fit import RigFit

VERDICTS: Final = {AGREES: "agrees", DOUBTFUL: "doubtful", DISAGREES: "disagrees"}


def row_text(row: Row, prefs: UnitPreferences = METRIC) -> tuple[str, str]:
    """A row's measured and predicted figures as text, with half the 95 % range and the 90 % band."""
    if row.kind == "duration":
        return show_duration(row.measured), show_duration(row.predicted)
    if row.kind == row.gap_kind:
        measured = f"{show_number(row.measured, row.kind, prefs)} ± {show(row.expanded, row.gap_kind, prefs)}"
    else:
        measured = f"{show(row.measured, row.kind, prefs)} ± {show(row.expanded, row.gap_kind, prefs)}"
    if not math.isfinite(row.low) and row.kind != "drift":
        return measured, show(row.predicted, row.kind, prefs)
    band = f"({show_number(row.low, row.kind, prefs)} to {show_number(row.high, row.kind, prefs)})"
    if row.kind == "drift":
        return measured, f"below {show(row.limit, row.kind, prefs)}"
    return measured, f"{show(row.predicted, row.kind, prefs)} {band}"


def record_of(comparison: Comparison, rig: Rig, day: str, prefs: UnitPreferences = METRIC) -> VerificationRecord:
    """The verdict as a record for the report."""
    rows = tuple(
        RecordRow(
            what=r.what[:60], measured=row_text(r, prefs)[0][:60], predicted=row_text(r, prefs)[1][:60], verdict=r.state
        )
        for r in comparison.rows
    )
    return VerificationRecord(
        date=day, session=comparison.session, rig_name=rig.name, rig_mark=mark_of(rig), state=comparison.state,
        sentence=comparison.sentence[:1000], rows=rows,
    )  # fmt: skip


def record_text(record: VerificationRecord, rig: Rig) -> str:
    """A record in one line; stale when the rig has changed since."""
    words = {AGREES: "agreed", DOUBTFUL: "marginal", DISAGREES: "disagreed"}
    text = f"Verified on {record.date} with “{record.session}”: {words.get(record.state, record.state)}."
    if record.rig_mark != mark_of(rig):
        text += " Stale: the rig has changed since."
    return text


def fit_sentence(fit: RigFit) -> str:
    """What a fit has told, what is doubtful about it first; only what the measurements have really narrowed is named."""
    known = [v for v in sorted(fit.learned, key=lambda v: v.share) if v.name not in fit.unlearned][:3]
    words = "; ".join(f"{v.name} {v.after} (was {v.before})" for v in known)
    best = f"Best known now: {words}." if words else "The measurements narrow none of what was fitted."
    return " ".join([*fit.warnings, best])
