"""What a march of the network leaves behind: its curves as rows of one record, its states, and its book of heat."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.thermal.ledger import Ledger, ledger_of
from mandorla.core.thermal.stack import MODES, Floats

# Rows of what a march notes; the lags of the lateral modes follow: of the power, then of the rise.
(
    TOP, BOTTOM, SENSOR, READING, AIR, LOWER_AIR, FRAME_AT, WALL, POWER, CHAMBER_POWER, CHAMBER_READING, LAG_POWER,
) = range(12)  # fmt: skip
LAG_RISE: Final = LAG_POWER + MODES
ROWS: Final = LAG_RISE + MODES


def _row(record: Floats, which: int) -> Floats:
    found: Floats = record[which]
    return found


class NetworkRun(NamedTuple):
    """A march of the network, (m+1,) from the start on.

    ``record`` (ROWS, m+1) of all curves, ``cells`` (m+1, n) K of the stack, the ``states`` (m+1, STATE + fuses) that a march can go
    on from, and the ``book`` (LINES,) in J of where the heat went.
    """

    record: Floats
    cells: Floats
    states: Floats
    book: Floats

    @property
    def top(self) -> Floats:
        """The stack's upper face (m+1,) in K."""
        return _row(self.record, TOP)

    @property
    def bottom(self) -> Floats:
        """Its lower face (m+1,) in K."""
        return _row(self.record, BOTTOM)

    @property
    def sensor(self) -> Floats:
        """The bed at its sensor (m+1,) in K."""
        return _row(self.record, SENSOR)

    @property
    def reading(self) -> Floats:
        """What the bed's sensor shows (m+1,) in K."""
        return _row(self.record, READING)

    @property
    def air(self) -> Floats:
        """The upper air (m+1,) in K."""
        return _row(self.record, AIR)

    @property
    def lower(self) -> Floats:
        """The air (m+1,) in K below the bed's level."""
        return _row(self.record, LOWER_AIR)

    @property
    def frame(self) -> Floats:
        """The frame (m+1,) in K."""
        return _row(self.record, FRAME_AT)

    @property
    def wall(self) -> Floats:
        """The mean (m+1,) in K of the panels' inner faces."""
        return _row(self.record, WALL)

    @property
    def power(self) -> Floats:
        """What the bed's heater gives (m+1,) in W, over the step before each moment."""
        return _row(self.record, POWER)

    @property
    def chamber_power(self) -> Floats:
        """What the chamber's heater gives (m+1,) in W, likewise."""
        return _row(self.record, CHAMBER_POWER)

    @property
    def chamber_reading(self) -> Floats:
        """What the chamber's sensor shows (m+1,) in K."""
        return _row(self.record, CHAMBER_READING)

    @property
    def lag_power(self) -> Floats:
        """The power (m+1, modes) in W as the lateral modes have followed it."""
        return self.record[LAG_POWER:LAG_RISE].T

    @property
    def lag_rise(self) -> Floats:
        """The bed's rise over the air (m+1, modes) in K as the lateral modes have followed it."""
        return self.record[LAG_RISE:].T

    @property
    def ledger(self) -> Ledger:
        """Where the heat went, in J."""
        return ledger_of(self.book)


def joined(pieces: Sequence[NetworkRun]) -> NetworkRun:
    """Marches that follow each other as one: each but the first begins where the one before it ended."""
    first, *rest = pieces
    return NetworkRun(
        np.concatenate([first.record, *(p.record[:, 1:] for p in rest)], axis=1),
        np.concatenate([first.cells, *(p.cells[1:] for p in rest)]),
        np.concatenate([first.states, *(p.states[1:] for p in rest)]),
        np.sum([p.book for p in pieces], axis=0),
    )
