"""A figure's card in words, the same on the command line and in the window."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

from mandorla.core.failure.messages import lift_figure, margin_text, probability_text
from mandorla.core.units import UnitPreferences, show, show_duration, show_number

if TYPE_CHECKING:
    from mandorla.core.results.types import Card, InputRow, Moved


class Section(NamedTuple):
    """A part of a card: its ``key``, its heading and its lines."""

    key: str
    heading: str
    lines: tuple[str, ...]


_MODELS = {"quick": "the quick models", "full": "the full simulation"}


def figure_text(value: float, kind: str, units: UnitPreferences, currency: str) -> str:
    """A figure with its unit."""
    if not math.isfinite(value):
        return "not known"
    if kind == "chance":
        return probability_text(value)
    if kind == "margin":
        return margin_text(value)
    if kind == "lift":
        return lift_figure(value, units)
    if kind == "duration":
        return show_duration(value)
    return f"{value:.2f} {currency}" if kind == "money" else show(value, kind, units)


def _unknown_text(m: Moved, kind: str, units: UnitPreferences, currency: str) -> str:
    ends = " to ".join(figure_text(v, kind, units, currency) for v in (m.low, m.high))
    return f"{m.name[0].upper()}{m.name[1:]}: {ends}" + (f"; {m.test}" if m.test else "")


def _lever_text(m: Moved, kind: str, units: UnitPreferences, currency: str) -> str:
    before, after = (figure_text(v, kind, units, currency) for v in (m.low, m.high))
    by = show(abs(m.step), m.kind, units, digits=0)
    return f"{m.name} {by} {'more' if m.step > 0.0 else 'less'}: {before} becomes {after}"


def input_text(row: InputRow, units: UnitPreferences) -> str:
    """An input with its range and source."""
    if row.text:
        return f"{row.title}: {row.text} ({row.source})"
    # three places say nothing of a metal's conductivity
    digits = max(0, 2 - math.floor(math.log10(abs(row.value) or 1.0))) if row.kind == "conductivity" else None
    text = f"{row.title}: {show(row.value, row.kind, units, digits=digits)}"
    if math.isfinite(row.low):
        text += f", {show_number(row.low, row.kind, units, digits=digits)} to {show(row.high, row.kind, units, digits=digits)}"
    return f"{text} ({row.source})"


def card_sections(card: Card, units: UnitPreferences, currency: str) -> tuple[Section, ...]:
    """What a card says, in the order in which it is read."""
    meaning, found, how = card.meaning, list[Section](), (card.kind, units, currency)
    if math.isfinite(card.value):
        now = figure_text(card.value, *how)
        found.append(Section("now", "Now", (f"{now}, by {_MODELS.get(card.source, 'the quick models')}",)))
    of = f" of “{card.about}”" if card.about else ""
    least = tuple(_unknown_text(m, *how) for m in card.uncertain)
    changes = tuple(_lever_text(m, *how) for m in card.levers)
    by = ", as far as the quick models tell" if card.source == "full" else ""
    return (
        *found,
        Section("what", "What it is", (meaning.what,)),
        Section("least", f"Least known{of}, over its 90 % range", least or ("no unknown that is modelled moves it",)),
        Section("changes", f"What changes it{of}{by}", changes or ("none of the console's settings moves it",)),
        Section("measure", "How to measure it", (meaning.measure,)),
        Section("model", "How it is computed", (meaning.model,)),
        Section("inputs", "What goes into it", tuple(input_text(row, units) for row in card.inputs)),
        Section("theory", "Where it stands", (f"Theory, {meaning.theory}",)),
    )


def card_text(card: Card, units: UnitPreferences, currency: str) -> str:
    """The card as plain text."""
    lines = [card.meaning.title]
    for section in card_sections(card, units, currency):
        lines += ["", section.heading, *(f"  {line}" for line in section.lines)]
    return "\n".join(lines)
