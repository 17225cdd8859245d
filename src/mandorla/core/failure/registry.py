"""The ways to fail, each with the same face: a margin with its spread, a chance, a state, words; one registry for everybody.

A way to fail is a function in a module of :mod:`mandorla.core.failure.ways`, registered under its key; every module there is found
by itself, so that a new way is one new file.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cache, lru_cache
from importlib import import_module
from pkgutil import iter_modules
from typing import Final

import numpy as np

from mandorla.core.failure.case import FailureCase
from mandorla.core.failure.state import LimitCheck, State, worst_of
from mandorla.core.units import METRIC, UnitPreferences

QUICK: Final = "quick"
FULL: Final = "full"
RISK: Final = 0.10  # chance of failing up to which something holds, where the criteria say nothing else
LIKELY: Final = 0.5  # chance from which it fails
THERMAL: Final = frozenset(
    {"bed_first", "bed_rest", "chamber", "fan", "power", "fuse"}
)  # levers that a map or the console moves
# of a change of a margin between two states by the quick models, its standard deviation (benchmarks/levers_in_full.py)
_OF_A_CHANGE: Final = 0.5
_FAR: Final = 3.0  # ln of a margin from which all are alike
DRAWS: Final = 1 << 13
_SEED: Final = 11


@dataclass(frozen=True, slots=True)
class Beginning:
    """Where a failure begins: ``height`` m and ``layer`` (0: not told) of the print."""

    height: float
    layer: int = 0


def unsaid(_: UnitPreferences) -> str:
    """The words of a way of which nothing is said."""
    return ""


@dataclass(frozen=True, slots=True)
class Assessment:
    """One way to fail at one state.

    ``margin`` is the natural logarithm of a ratio for loads, kelvin for temperatures; a negative margin fails at typical figures;
    NaN where there is none. ``parts`` is what one standard deviation of each unknown does to it: unknowns of one name are the same
    for all failures. ``source`` names the model. ``checks`` are the single ratings that it stands for. ``words`` is its clause, in
    the units that are asked for.
    """

    state: State
    margin: float
    parts: Mapping[str, float]
    source: str
    consequence: str
    begins: Beginning | None = None
    levers: tuple[str, ...] = ()
    checks: tuple[LimitCheck, ...] = ()
    words: Callable[[UnitPreferences], str] = field(default=unsaid, compare=False)

    @property
    def spread(self) -> float:
        """Standard deviation of the margin: root of the sum of squares over the unknowns; NaN where none is known."""
        return math.sqrt(sum(v * v for v in self.parts.values())) if self.parts else math.nan

    @property
    def z(self) -> float:
        """Margin over spread: what orders failures of unlike units; NaN without a spread."""
        return self.margin / self.spread if self.spread > 0.0 else math.nan

    @property
    def probability(self) -> float:
        """Chance that it happens by itself: the normal distribution's share below nought; without a spread 1 where it fails, NaN
        else."""
        if math.isfinite(self.z):
            return 0.5 * math.erfc(self.z / math.sqrt(2.0))
        return 1.0 if self.state is State.FAILS else math.nan


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
    _load_ways()
    return tuple(sorted(_WAYS.values(), key=lambda w: w.order))


@cache
def _load_ways() -> None:
    package = import_module("mandorla.core.failure.ways")
    for module in iter_modules(package.__path__):
        import_module(f"{package.__name__}.{module.name}")


@dataclass(frozen=True, slots=True)
class Judgement:
    """Every way to fail that applies to a case, by key, in order; ``titles`` and ``overall`` as registered. ``anything`` is the
    chance that any of those that count happens, from common samples of what is not known; ``risk`` the chance that is accepted."""

    found: Mapping[str, Assessment | NotKnown]
    titles: Mapping[str, str]
    overall: frozenset[str]
    anything: float
    risk: float

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
    def counted(self) -> dict[str, Assessment]:
        """Those that are known and decide the whole."""
        return {k: a for k, a in self.assessed.items() if k in self.overall}

    @property
    def figures(self) -> Judgement:
        """The same without its words, which cannot go to another process."""
        known = {k: replace(a, words=unsaid) if isinstance(a, Assessment) else a for k, a in self.found.items()}
        return replace(self, found=known)

    def moved(self, off: Mapping[str, float], like: Judgement | None = None) -> Judgement:
        """The same with margins of loads that are ``off`` by so much (ln, by key), as full simulations near by have found them; the
        spreads stay, or are those of the full simulation's judgement that it is ``like``, with half of what a margin is away from
        there: that far the quick models' changes are to be trusted."""

        def there(key: str, a: Assessment | NotKnown) -> Assessment | NotKnown:
            known = like.assessed.get(key) if like is not None else None
            if not isinstance(a, Assessment) or key not in off or (known is None and not off[key]):
                return a
            at = replace(a, margin=a.margin + off[key])
            if known is not None:
                away = _OF_A_CHANGE * abs(min(at.margin, _FAR) - min(known.margin, _FAR))
                at = replace(at, parts={**known.parts, f"change of {key}": away} if away > 0.0 else known.parts)
            return replace(at, state=state_of(at.probability if at.parts else float(at.margin < 0.0), self.risk))

        found = {k: there(k, a) for k, a in self.found.items()}
        counted = {k: a for k, a in found.items() if k in self.overall and isinstance(a, Assessment)}
        return (
            replace(self, found=found, anything=chance_of_any(counted))
            if any(off.values()) or like is not None
            else self
        )

    @property
    def beside_temperature(self) -> tuple[float, str]:
        """Chance that something fails that no temperature, fan or power changes, and the likeliest such way (empty: there is
        none)."""
        ways = {k: a for k, a in self.counted.items() if not THERMAL & set(a.levers)}
        chances = {k: a.probability if a.parts else float(a.state is State.FAILS) for k, a in ways.items()}
        if not any(chances.values()):
            return 0.0, ""
        return 1.0 - math.prod(1.0 - p for p in chances.values()), max(chances, key=lambda k: chances[k])

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
        """The worst state of the ways that decide the whole; it holds only where the chance that anything fails is accepted, and
        where nothing fails but not everything is known, it is not known either."""
        worst = worst_of(*(a.state for a in self.counted.values()))
        if worst is not State.FAILS and not self.determined:
            return State.NOT_COMPUTED
        if worst is State.HOLDS and math.isfinite(self.anything) and self.anything > self.risk:
            return State.MARGINAL
        return worst

    @property
    def unknown(self) -> tuple[str, ...]:
        """Ways that decide the whole and of which nothing is known."""
        return tuple(k for k, a in self.found.items() if k in self.overall and isinstance(a, NotKnown))

    @property
    def determined(self) -> bool:
        """Whether everything that could fail is known."""
        return not self.unknown

    @property
    def first(self) -> str:
        """The way that fails first: of those that fail the one that begins lowest, else the likeliest that is not excluded; empty
        where nothing is to be feared."""
        failing = {k: a for k, a in self.counted.items() if a.state is State.FAILS}
        if failing:
            # what fails before the print begins comes before what fails at a height, that before what shows at the end
            def when(a: Assessment) -> float:
                return a.begins.height if a.begins is not None else -1.0 if a.checks else math.inf

            return min(failing, key=lambda k: when(failing[k]))
        likely = {k: a for k, a in self.counted.items() if a.state is State.MARGINAL or a.probability > self.risk}
        if not likely and self.whole is State.MARGINAL:
            likely = {k: a for k, a in self.counted.items() if math.isfinite(a.probability)}
        return max(likely, key=lambda k: _or_nought(likely[k].probability)) if likely else ""

    @property
    def order(self) -> tuple[bool, float, float]:
        """What orders judgements from the likeliest to hold on: whether it fails as a whole, the chance that anything fails, and,
        where that says no more (a thousandth is none), by how many standard deviations the worst fails (a half is none)."""
        beyond = [a.z for a in self.counted.values() if math.isfinite(a.z)]
        return self.whole is State.FAILS, round(self.anything, 3), -0.5 * round(2.0 * min(beyond, default=0.0))

    @property
    def likeliest(self) -> str:
        """The likeliest failure of those with a chance; empty where none has one."""
        known = {k: a.probability for k, a in self.counted.items() if math.isfinite(a.probability)}
        return max(known, key=lambda k: known[k]) if known else ""

    def words(self, key: str, prefs: UnitPreferences = METRIC) -> str:
        """What is said of one way; empty where there is nothing to say."""
        a = self.found.get(key)
        return "" if a is None else a.what_tells if isinstance(a, NotKnown) else a.words(prefs)


def _or_nought(p: float) -> float:
    return p if math.isfinite(p) else 0.0


def state_of(probability: float, risk: float = RISK) -> State:
    """The state that goes with a chance of failing."""
    return State.HOLDS if probability <= risk else State.FAILS if probability >= LIKELY else State.MARGINAL


def graded(
    case: FailureCase, margin: float, parts: Mapping[str, float], source: str, consequence: str, begins: Beginning | None,
    levers: tuple[str, ...], words: Callable[[UnitPreferences], str],
) -> Assessment:  # fmt: skip
    """The assessment of a load: its state follows from the chance that it fails, without a spread from its margin."""
    found = Assessment(State.HOLDS, margin, parts, source, consequence, begins, levers, words=words)
    p = found.probability if parts else float(margin < 0.0)
    return replace(found, state=state_of(p, case.criteria.risk))


@lru_cache(maxsize=4)
def common_normals(count: int) -> np.ndarray:
    """Standard normals (count, DRAWS) of ``count`` unknowns, the same for everybody who asks for as many."""
    found = np.random.default_rng(_SEED).standard_normal((count, DRAWS)).astype(np.float32)
    found.setflags(write=False)
    return found


def common_samples(ways: Mapping[str, Assessment]) -> dict[str, np.ndarray]:
    """What common samples of the unknowns do to each margin, (DRAWS,) by key: unknowns of one name are one."""
    names = sorted({name for a in ways.values() for name in a.parts})
    z, row = common_normals(len(names)), {name: i for i, name in enumerate(names)}
    found = {}
    for key, a in ways.items():
        weights = np.zeros(len(names), dtype=np.float32)
        for name, value in a.parts.items():
            weights[row[name]] = value
        found[key] = np.asarray(weights @ z)
    return found


def chance_of_any(ways: Mapping[str, Assessment]) -> float:
    """Chance that any of several failures happens: the share of common samples of their unknowns in which a margin is negative.

    Failures that share a cause come together. NaN where no failure has a spread.
    """
    if any(a.state is State.FAILS and not a.parts for a in ways.values()):
        return 1.0
    known = {k: a for k, a in ways.items() if a.parts and math.isfinite(a.margin)}
    if not known:
        return math.nan
    fails = np.zeros(DRAWS, dtype=bool)
    for key, own in common_samples(known).items():
        fails |= own < -known[key].margin
    # never less than the likeliest by itself, which is known without samples
    return max(float(fails.mean()), max(a.probability for a in known.values()))


def judge(case: FailureCase) -> Judgement:
    """Assess every way to fail at a case; those that do not apply are left out."""
    ways = ways_to_fail()
    found = {w.key: a for w in ways if (a := w.assess(case)) is not None}
    titles = {w.key: w.title for w in ways if w.key in found}
    overall = frozenset(w.key for w in ways if w.overall)
    counted = {k: a for k, a in found.items() if k in overall and isinstance(a, Assessment)}
    return Judgement(found, titles, overall, chance_of_any(counted), case.criteria.risk)
