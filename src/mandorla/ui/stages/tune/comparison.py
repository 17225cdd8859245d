"""Pinned scenarios beside the present state: settings and verdicts, what differs first."""

from __future__ import annotations

from typing import TYPE_CHECKING

from mandorla.core.project.models import Scenario
from mandorla.core.results.keys import SCENARIO_JUDGEMENT
from mandorla.core.units import show
from mandorla.ui.document import Document
from mandorla.ui.widgets.console import verdict_texts

if TYPE_CHECKING:
    from mandorla.core.results.types import Evaluation, Judgement


def comparison_rows(
    columns: list[tuple[str, Scenario | None, Evaluation]], document: Document
) -> list[tuple[str, list[str]]]:
    """Settings and verdicts of the scenarios, rows that differ first."""
    units, project = document.units, document.project
    rows: list[tuple[str, list[str]]] = []
    for name, caption, kind in (
        ("bed_first", "Bed, first", "set_point"),
        ("bed_rest", "Bed, rest", "set_point"),
        ("chamber", "Chamber", "temperature"),
        ("soak_time", "Soak", "duration"),
        ("fan", "Fan", "fraction"),
    ):
        values = [getattr(s.settings if s else project.settings, name) for _, s, _ in columns]
        absent = name == "chamber" and not project.rig.heats_chamber
        rows.append((caption, ["not heated" if absent else show(v, kind, units, digits=0) for v in values]))
    verdicts = [verdict_texts(project, e, _judgement_of(s, document) or e.judgement, units) for _, s, e in columns]
    for caption in verdicts[0]:
        rows.append((caption, [v[caption][0] for v in verdicts]))
    return sorted(rows, key=lambda row: len(set(row[1])) == 1)


def _judgement_of(scenario: Scenario | None, document: Document) -> Judgement | None:
    """What the page says of the present state, or would say of a pinned one; None until a full run says it."""
    if scenario is None:
        return document.results.judgement()
    found = document.results.value(SCENARIO_JUDGEMENT.of(scenario=scenario.name))
    return found or document.results.run_judgement({"settings": scenario.settings, "process": scenario.process})
