"""A plate that suddenly grips less: the evidence of a halved grip against the grip as it is known, added up from print to print.

References
----------
E. S. Page, Biometrika 41 (1954) 100 (cumulative sums).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from scipy.special import log_ndtr

from mandorla.core.logbook.evidence import HOLD
from mandorla.core.logbook.records import Print

HALVED: Final = -math.log(2.0)
NOTICE: Final = 3.5  # nats from which it is told (benchmarks/weaker_plates.py: one false notice in 100 prints at most)


@dataclass(frozen=True, slots=True)
class Weaker:
    """A side that grips less: plate by key, side, keys of the prints since it began, nats of evidence."""

    plate: str
    side: str
    prints: tuple[str, ...]
    evidence: float


def step(margin: float, spread: float, failed: bool) -> float:
    """Nats by which a print speaks for a halved grip: margin (ln) and spread as predicted before it."""
    sign = -1.0 if failed else 1.0
    return float(log_ndtr(sign * (margin + HALVED) / spread) - log_ndtr(sign * margin / spread))


def weaker_plates(prints: Sequence[Print]) -> list[Weaker]:
    """Sides whose newest prints say that their grip has halved; another coating begins anew."""
    sums: dict[tuple[str, str], tuple[float, tuple[str, ...]]] = {}
    for p in sorted(prints, key=lambda q: q.at):
        said, o = p.predicted.get(HOLD), p.outcome
        if not p.plate or said is None or o is None or (o.accident and not o.effects):
            continue
        side = (p.plate, p.side)
        total, keys = (0.0, ()) if p.prepared == "coated" else sums.get(side, (0.0, ()))
        spread = math.sqrt(sum(v * v for v in said.parts.values())) or 1.0
        total += step(said.margin, spread, any(e.way == HOLD for e in o.effects))
        sums[side] = (total, (*keys, p.key)) if total > 0.0 else (0.0, ())
    return [Weaker(*side, keys, total) for side, (total, keys) in sums.items() if total >= NOTICE]
