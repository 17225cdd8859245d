"""Where heat came from and went: one book for the quick network, its steady state and the three-dimensional march."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.rig.chamber import SIDES
from mandorla.core.thermal.stack import Floats


class Ledger(NamedTuple):
    """Heat by its way, in J over a march or in W in a steady state. Arrays (1,) but for ``panels`` (6,), which follow ``SIDES``.

    Given by ``bed`` and ``chamber`` heater and by the ``machine``; off the bed by ``top_air`` and ``top_radiated``,
    ``underside_air`` and ``underside_radiated``, ``edges``, ``brackets``; out of the chamber by ``leakage``, ``vents``,
    ``exhaust``, ``door`` and through its panels.
    """

    bed: Floats
    chamber: Floats
    machine: Floats
    top_air: Floats
    top_radiated: Floats
    underside_air: Floats
    underside_radiated: Floats
    edges: Floats
    brackets: Floats
    leakage: Floats
    vents: Floats
    exhaust: Floats
    door: Floats
    panels: Floats


@compiled
def empty_ledger() -> Ledger:
    """A ledger in which nothing has flowed."""
    return Ledger(
        np.zeros(1), np.zeros(1), np.zeros(1), np.zeros(1), np.zeros(1), np.zeros(1), np.zeros(1), np.zeros(1), np.zeros(1),
        np.zeros(1), np.zeros(1), np.zeros(1), np.zeros(1), np.zeros(6),
    )  # fmt: skip


def given_in(ledger: Ledger) -> float:
    """All heat that was put in, in the ledger's unit."""
    return float(ledger.bed[0] + ledger.chamber[0] + ledger.machine[0])


def from_bed(ledger: Ledger) -> dict[str, float]:
    """Heat that left the bed by its way, in the ledger's unit."""
    ways = {
        "top, to the air": ledger.top_air[0],
        "top, radiated": ledger.top_radiated[0],
        "underside": ledger.underside_air[0] + ledger.underside_radiated[0],
        "edges": ledger.edges[0],
        "brackets": ledger.brackets[0],
    }
    return {name: float(v) for name, v in ways.items() if name != "brackets" or v != 0.0}


def from_chamber(ledger: Ledger) -> dict[str, float]:
    """Heat that left the chamber by its way, in the ledger's unit; ways that carry nothing are left out."""
    ways = {f"panel {side}": ledger.panels[i] for i, side in enumerate(SIDES)}
    air = {
        "leakage": ledger.leakage[0],
        "vents": ledger.vents[0],
        "exhaust": ledger.exhaust[0],
        "door": ledger.door[0],
    }
    ways |= {name: v for name, v in air.items() if v != 0.0 or name == "leakage"}
    return {name: float(v) for name, v in ways.items()}


def where_it_went(enclosed: bool, ledger: Ledger, stored: float) -> dict[str, float]:
    """Where all heat went: out of the chamber, or off the bed in the open, and what is stored."""
    return (from_chamber(ledger) if enclosed else from_bed(ledger)) | {"stored": stored}
