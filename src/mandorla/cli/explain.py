"""``mandorla explain``: where a figure comes from, what is least known behind it, what changes it, how to measure it."""

from __future__ import annotations

import argparse
from typing import Any

from mandorla.cli.command import Call, Command, Output, check_arguments
from mandorla.cli.output import as_json, finite
from mandorla.core.results.explained_words import card_text
from mandorla.core.results.figures import WAY, figure_meanings, meaning_of_figure
from mandorla.core.results.keys import EXPLAINED
from mandorla.core.units import KINDS


class MovedOutput(Output):
    """What moves a figure: at the low and at the high end of an unknown's 90 % range; before and after a setting is moved by
    ``step`` (SI; 0 for unknowns)."""

    name: str
    step: float
    low: float | None
    high: float | None
    test: str


class InputOutput(Output):
    """What goes into a figure, with its range and its source."""

    title: str
    value: float | None
    text: str
    unit: str
    low: float | None
    high: float | None
    source: str
    path: str


class ExplainOutput(Output):
    """What ``mandorla explain --json`` prints; figures in SI."""

    key: str
    title: str
    value: float | None
    unit: str
    what: str
    model: str
    source: str
    theory: str
    measure: str
    about: str
    inputs: list[InputOutput]
    least_known: list[MovedOutput]
    changes_it: list[MovedOutput]


_UNITS = {"chance": "1", "margin": "1", "lift": "m", "money": "currency", "": ""}


def _unit(kind: str) -> str:
    """The SI unit of a kind."""
    if kind in _UNITS:
        return _UNITS[kind]
    return next((u.symbol for u in KINDS[kind] if u.scale == 1.0 and u.offset == 0.0), "")


def run(call: Call) -> int:
    """Print the card of a figure, or the keys that there are. Raises InputError for a key that is none."""
    if not call.options.key:
        rows = [*((k, m.title) for k, m in figure_meanings().items()), (f"{WAY}KEY", "a way to fail, by its key")]
        if call.json:
            meaning_of_figure("")  # a card is of one figure: refused, with the keys that there are
        print("\n".join(f"  {k:28s} {title}" for k, title in rows))
        return 0
    meaning_of_figure(call.options.key)
    call.judgement()
    judged = call.results.judgement_key()
    card = call.get(EXPLAINED.of(figure=call.options.key, full=judged["full"], bodies=judged["bodies"]))
    if not call.json:
        print(card_text(card, call.units, call.project.criteria.currency))
        return 0
    moved: dict[str, list[dict[str, Any]]] = {
        name: [
            {"name": m.name, "step": m.step, "low": finite(m.low), "high": finite(m.high), "test": m.test} for m in rows
        ]
        for name, rows in (("least_known", card.uncertain), ("changes_it", card.levers))
    }
    as_json({
        "key": card.meaning.key, "title": card.meaning.title, "value": finite(card.value), "unit": _unit(card.kind),
        "what": card.meaning.what, "model": card.meaning.model, "source": card.source, "theory": card.meaning.theory,
        "measure": card.meaning.measure, "about": card.about,
        "inputs": [
            {"title": r.title, "value": finite(r.value), "text": r.text, "unit": _unit(r.kind), "low": finite(r.low),
             "high": finite(r.high), "source": r.source, "path": r.path}
            for r in card.inputs
        ],
        **moved,
    })  # fmt: skip
    return 0


def arguments(parser: argparse.ArgumentParser) -> None:
    """The figure's key."""
    parser.add_argument(
        "key", nargs="?", default="", metavar="KEY", help="a figure's key; without one the keys are listed"
    )
    check_arguments(parser)


COMMAND = Command(
    "explain",
    "where a figure comes from, what is least known behind it and what changes it",
    run,
    arguments,
    ExplainOutput,
)
