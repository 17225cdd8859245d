"""The ways to fail, each with the same face: a margin with its spread, a chance, a state, words; one registry for everybody.

A way to fail is a function in a module of :mod:`mandorla.core.failure.ways`, registered under its key; every module there is found
by itself, so that a new way is one new file.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from importlib import import_module
from pkgutil import iter_modules
from typing import Final

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.state import LimitCheck, State, worst_of
from mandorla.core.units import METRIC, UnitPreferences

QUICK: Final = "quick"
COARSE: Final = "coarse"


@dataclass(frozen=True, slots=True)
class Beginning:
    """Where a failure begins: ``height`` m and ``layer`` (0: not told) of the print."""

    height: float
    layer: int = 0


@dataclass(frozen=True, slots=True)
class Assessment:
    """One way to fail at one state.

    ``margin`` and ``spread`` (one standard deviation) are natural logarithms of a ratio for loads, kelvin for temperatures; a
    negative margin fails at typical figures; NaN where there is none. ``source`` names the model. ``checks`` are the single ratings
    that it stands for. ``words`` is its clause, in the units that are asked for.
    """

    state: State
    margin: float
    spread: float
    source: str
    consequence: str
    begins: Beginning | None = None
    levers: tuple[str, ...] = ()
    checks: tuple[LimitCheck, ...] = ()
    words: Callable[[UnitPreferences], str] = field(default=lambda _: "", compare=False)

    @property
    def z(self) -> float:
        """Margin over spread: what orders failures of unlike units; NaN without a spread."""
        return self.margin / self.spread if self.spread > 0.0 else math.nan

    @property
    def probability(self) -> float:
        """Chance that it happens by itself: the normal distribution's share below nought; NaN without a spread."""
        return 0.5 * math.erfc(self.z / math.sqrt(2.0)) if math.isfinite(self.z) else math.nan


@dataclass(frozen=True, slots=True)
class NotKnown:
    """A failure that could happen and of which nothing is known yet: why, and what would tell."""

    reason: str
    what_tells: str


Assess = Callable[[FailureCase], Assessment | NotKnown | None]


@dataclass(frozen=True, slots=True)
class WayToFail:
    """A registered way: stable ``key``, ``title`` on screen, place in the ``order``, whether it decides the ``overall`` state."""

    key: str
    title: str
    order: int
    overall: bool
    assess: Assess


_WAYS: Final[dict[str, WayToFail]] = {}


def way_to_fail(key: str, title: str, *, order: int, overall: bool = True) -> Callable[[Assess], Assess]:
    """Register a way to fail.

    Parameters
    ----------
    key, title
        Stable key, and what a person reads.
    order
        Place in lists; ties in registration order.
    overall
        Whether its state counts in the state of the whole.

    Raises
    ------
    ValueError
        Where the key is taken.
    """

    def register(assess: Assess) -> Assess:
        if key in _WAYS:
            raise ValueError(f"there are two ways to fail with the key {key!r}")
        _WAYS[key] = WayToFail(key, title, order, overall, assess)
        return assess

    return register


def forget_way(key: str) -> None:
    """Remove a way again, for tests that add one."""
    del _WAYS[key]


def ways_to_fail() -> tuple[WayToFail, ...]:
    """All ways, in order; the modules that hold them are loaded at the first call."""
    package = import_module("mandorla.core.failure.ways")
    for module in iter_modules(package.__path__):
        import_module(f"{package.__name__}.{module.name}")
    return tuple(sorted(_WAYS.values(), key=lambda w: w.order))


@dataclass(frozen=True, slots=True)
class Judgement:
    """Every way to fail that applies to a case, by key, in order; ``titles`` and ``overall`` as registered."""

    found: Mapping[str, Assessment | NotKnown]
    titles: Mapping[str, str]
    overall: frozenset[str]

    def __getitem__(self, key: str) -> Assessment | NotKnown:
        return self.found[key]

    def state(self, key: str) -> State:
        """The state of one way; NOT_COMPUTED where it does not apply or is not known."""
        a = self.found.get(key)
        return a.state if isinstance(a, Assessment) else State.NOT_COMPUTED

    @property
    def assessed(self) -> dict[str, Assessment]:
        """Those that are known."""
        return {k: a for k, a in self.found.items() if isinstance(a, Assessment)}

    @property
    def limits(self) -> tuple[LimitCheck, ...]:
        """All single ratings, in order."""
        return tuple(c for a in self.assessed.values() for c in a.checks)

    @property
    def limit_state(self) -> State:
        """The worst state of the single ratings."""
        return worst_of(*(c.state for c in self.limits))

    @property
    def whole(self) -> State:
        """The worst state of the ways that decide the whole."""
        return worst_of(*(a.state for k, a in self.assessed.items() if k in self.overall))

    def words(self, key: str, prefs: UnitPreferences = METRIC) -> str:
        """What is said of one way; empty where there is nothing to say."""
        a = self.found.get(key)
        return "" if a is None else a.what_tells if isinstance(a, NotKnown) else a.words(prefs)


def judge(case: FailureCase) -> Judgement:
    """Assess every way to fail at a case; those that do not apply are left out."""
    ways = ways_to_fail()
    found = {w.key: a for w in ways if (a := w.assess(case)) is not None}
    titles = {w.key: w.title for w in ways if w.key in found}
    return Judgement(found, titles, frozenset(w.key for w in ways if w.overall))
