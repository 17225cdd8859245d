"""Where heat came from and went: one book for the quick network, its steady state and the three-dimensional march."""

from __future__ import annotations

from typing import NamedTuple

from mandorla.core.compiled import compiled
from mandorla.core.rig.chamber import SIDES
from mandorla.core.thermal.stack import Floats

# Lines of the book that compiled marches keep, in the order of Ledger; the panels are the last six.
(
    BED, CHAMBER, MACHINE, TOP_AIR, TOP_RADIATED, UNDERSIDE_AIR, UNDERSIDE_RADIATED, EDGES, BRACKETS, LEAKAGE, VENTS, EXHAUST, DOOR,
    PANELS,
) = range(14)  # fmt: skip
LINES = PANELS + 6


class Ledger(NamedTuple):
    """Heat by its way, in J over a march or in W in a steady state.

    Given by ``bed`` and ``chamber`` heater and by the ``machine``; off the bed by ``top_air`` and ``top_radiated``,
    ``underside_air`` and ``underside_radiated``, ``edges``, ``brackets``; out of the chamber by ``leakage``, ``vents``,
    ``exhaust``, ``door`` and through its ``panels`` (6,), which follow ``SIDES``.
    """

    bed: float
    chamber: float
    machine: float
    top_air: float
    top_radiated: float
    underside_air: float
    underside_radiated: float
    edges: float
    brackets: float
    leakage: float
    vents: float
    exhaust: float
    door: float
    panels: Floats


@compiled
def ledger_of(book: Floats) -> Ledger:
    """The ledger of a book (LINES,)."""
    return Ledger(
        book[BED], book[CHAMBER], book[MACHINE], book[TOP_AIR], book[TOP_RADIATED], book[UNDERSIDE_AIR],
        book[UNDERSIDE_RADIATED], book[EDGES], book[BRACKETS], book[LEAKAGE], book[VENTS], book[EXHAUST], book[DOOR],
        book[PANELS:].copy(),
    )  # fmt: skip


def given_in(ledger: Ledger) -> float:
    """All heat that was put in, in the ledger's unit."""
    return float(ledger.bed + ledger.chamber + ledger.machine)


def from_bed(ledger: Ledger) -> dict[str, float]:
    """Heat that left the bed by its way, in the ledger's unit."""
    ways = {
        "top, to the air": ledger.top_air,
        "top, radiated": ledger.top_radiated,
        "underside": ledger.underside_air + ledger.underside_radiated,
        "edges": ledger.edges,
        "brackets": ledger.brackets,
    }
    return {name: float(v) for name, v in ways.items() if name != "brackets" or v != 0.0}


def from_chamber(ledger: Ledger) -> dict[str, float]:
    """Heat that left the chamber by its way, in the ledger's unit; ways that carry nothing are left out."""
    ways = {f"panel {side}": ledger.panels[i] for i, side in enumerate(SIDES)}
    air = {
        "leakage": ledger.leakage,
        "vents": ledger.vents,
        "exhaust": ledger.exhaust,
        "door": ledger.door,
    }
    ways |= {name: v for name, v in air.items() if v != 0.0 or name == "leakage"}
    return {name: float(v) for name, v in ways.items()}


def where_it_went(enclosed: bool, ledger: Ledger, stored: float) -> dict[str, float]:
    """Where all heat went: out of the chamber, or off the bed in the open, and what is stored."""
    return (from_chamber(ledger) if enclosed else from_bed(ledger)) | {"stored": stored}
