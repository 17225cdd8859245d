"""A figure's card in words, the same on the command line and in the window."""

from __future__ import annotations

import math
from typing import TYPE_CHECKING, NamedTuple

from mandorla.core.failure.messages import margin_text, probability_text
from mandorla.core.units import UnitPreferences, show, show_duration, show_number

if TYPE_CHECKING:
    from mandorla.core.results.types import Card, InputRow, Moved


class Section(NamedTuple):
    """A part of a card: its heading and its lines."""

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
    if kind == "duration":
        return show_duration(value)
    return f"{value:.2f} {currency}" if kind == "money" else show(value, kind, units)


def _ends(m: Moved, kind: str, units: UnitPreferences, currency: str) -> str:
    return " to ".join(figure_text(v, kind, units, currency) for v in (m.low, m.high))


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
    meaning, found = card.meaning, []
    if math.isfinite(card.value):
        now = figure_text(card.value, card.kind, units, currency)
        found.append(Section("Now", (f"{now}, by {_MODELS.get(card.source, 'the quick models')}",)))
    found.append(Section("What it is", (meaning.what,)))
    of = f" of “{card.about}”" if card.about else ""
    least = tuple(
        f"{m.name[0].upper()}{m.name[1:]}: {_ends(m, card.kind, units, currency)}" + (f"; {m.test}" if m.test else "")
        for m in card.uncertain
    )
    found.append(Section(f"Least known{of}, over its 90 % range", least or ("no unknown that is modelled moves it",)))
    changes = tuple(
        f"{m.name}: {_ends(m, card.kind, units, currency).replace(' to ', ' becomes ')}" for m in card.levers
    )
    found.append(Section(f"What changes it{of}", changes or ("none of the console's settings moves it",)))
    found.append(Section("How to measure it", (meaning.measure,)))
    found.append(Section("How it is computed", (meaning.model,)))
    found.append(Section("What goes into it", tuple(input_text(row, units) for row in card.inputs)))
    found.append(Section("Where it stands", (f"Theory, {meaning.theory}",)))
    return tuple(found)


def card_text(card: Card, units: UnitPreferences, currency: str) -> str:
    """The card as plain text."""
    lines = [card.meaning.title]
    for section in card_sections(card, units, currency):
        lines += ["", section.heading, *(f"  {line}" for line in section.lines)]
    return "\n".join(lines)
