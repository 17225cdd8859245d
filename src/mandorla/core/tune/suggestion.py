"""A suggestion: settings that should hold, every setting that they move, and what proves it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

from mandorla.core.failure.registry import Assessment, Judgement
from mandorla.core.rig.settings import Settings
from mandorla.core.tune.window_map import Point

CHECKED: Final = "checked by full simulation"
NOT_YET: Final = "not checked yet"
NOT_PROVED: Final = "not proved yet"
FAILED: Final = "fails in the full simulation"
FAR_OFF: Final = 4.0  # standard deviations of what is known beyond which nobody looks for a failure


@dataclass(frozen=True, slots=True)
class Suggestion:
    """Settings that are offered as the ``nearest``, the ``cheapest``, the ``safest`` or the ``fastest``: the ``point`` on the
    map, all ``settings``, their judgement, energy (J) of a print, s until it ends (``duration``), ``proof`` and what would have
    to be wrong for it to fail."""

    key: str
    point: Point
    settings: Settings
    judgement: Judgement
    energy: float
    duration: float
    proof: str
    wrong: str

    @property
    def proved(self) -> bool:
        """Whether a full simulation has shown that it holds."""
        return self.proof == CHECKED


def failing_point(a: Assessment, deviations: float, known: tuple[str, ...]) -> Mapping[str, float]:
    """The likeliest values, in standard deviations of the ``known`` unknowns, at which a failure is ``deviations`` away: against
    the gradient of its margin (the design point of first-order reliability, Hasofer and Lind 1974)."""
    parts = {name: v for name, v in a.parts.items() if name in known}
    size = sum(v * v for v in parts.values()) ** 0.5
    return {name: -deviations * v / size for name, v in parts.items()} if size > 0.0 else {}


def deviating(at: Mapping[str, float]) -> str:
    """The two unknowns that are farthest from typical, in words."""
    most = sorted(at.items(), key=lambda kv: -abs(kv[1]))[:2]
    return " and ".join(f"{name} {abs(z):.1f} σ {'above' if z > 0.0 else 'below'} typical" for name, z in most)


def what_must_be_wrong(judgement: Judgement, known: tuple[str, ...]) -> str:
    """Where the likeliest failure begins, by the two of the ``known`` unknowns that bring it nearest, in words; empty where nothing
    can fail."""
    worst = judgement.likeliest
    if not worst:
        return ""
    a, first = judgement.counted[worst], f"First to fail: “{judgement.titles[worst].lower()}”"
    size = sum(v * v for name, v in a.parts.items() if name in known) ** 0.5
    if size <= 0.0 or not math.isfinite(a.margin):
        return first
    away = max(a.margin, 0.0) / size
    if away > FAR_OFF:
        return f"{first}, by nothing that is known within {FAR_OFF:.0f} σ"
    return f"{first}, with {deviating(failing_point(a, away, known))} or beyond"
