"""The results of one project, in line: asked for by key, computed once, kept while nothing they depend on has changed."""

from __future__ import annotations

import logging
import threading
from collections import OrderedDict
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Final, TypeVar, cast

from mandorla.core.errors import Cancelled, InputError
from mandorla.core.project.models import KeptRun
from mandorla.core.project.store import Bundle
from mandorla.core.results.digest import Digest, digest_of
from mandorla.core.results.kept_runs import belongs, opened
from mandorla.core.results.key import Cost, Key
from mandorla.core.results.keys import FULL_RUN, JUDGEMENT, SETTINGS_CHECK
from mandorla.core.results.registry import function_of
from mandorla.core.runtime import RunContext

if TYPE_CHECKING:
    from mandorla.core.logbook.learning import Experience
    from mandorla.core.results.types import FullRun, Judgement

T = TypeVar("T")
KEPT: Final[dict[Cost, int]] = {Cost.QUICK: 24, Cost.SHORT: 12, Cost.BACKGROUND: 12, Cost.ON_DEMAND: 12}
RESOLUTIONS: Final = ("fine", "standard", "draft")  # finest first
_NONE: Final = object()
_LOG = logging.getLogger(__name__)


@dataclass(slots=True)
class Kept:
    """Values by digest, some of each cost, the one that was used longest ago going first; safe to share between threads."""

    _by_cost: dict[Cost, OrderedDict[Digest, Any]] = field(default_factory=lambda: {c: OrderedDict() for c in Cost})
    _lock: threading.Lock = field(default_factory=threading.Lock)
    count: int = 0  # of values that were ever kept

    def get(self, cost: Cost, digest: Digest, default: object = None) -> Any:
        """The value of a digest, else ``default``."""
        with self._lock:
            shelf = self._by_cost[cost]
            if digest not in shelf:
                return default
            shelf.move_to_end(digest)
            return shelf[digest]

    def put(self, cost: Cost, digest: Digest, value: object) -> None:
        """Keep a value; the oldest one goes where there are too many."""
        with self._lock:
            self.count += 1
            shelf = self._by_cost[cost]
            shelf[digest] = value
            shelf.move_to_end(digest)
            # many kinds of result share a shelf, each with a few states
            while len(shelf) > KEPT[cost] * (1 if cost is Cost.ON_DEMAND else 8):
                shelf.popitem(last=False)


@dataclass(frozen=True, slots=True)
class _Needs:
    """What a result's function may ask for: what it declares, and other states on the same shelf."""

    results: Results
    of: Key[Any]
    declared: tuple[Key[Any], ...]
    run: RunContext | None

    def __call__(self, key: Key[T]) -> T:
        if key not in self.declared:
            raise KeyError(f"{self.of} asks for {key}, which it does not declare")
        return self.results.get(key, self.run)

    def beside(self, bundle: Bundle) -> Results:
        return Results(bundle, self.results.kept, self.results.experience)

    @property
    def experience(self) -> Experience | None:
        return self.results.experience


class Results:
    """What follows from a project, by key.

    Parameters
    ----------
    bundle
        The project with its originals.
    kept
        Values that may be shared with other projects' results (a window's, a sweep's); None keeps its own.
    experience
        What the workshop's prints have taught; None: there is no logbook.
    """

    def __init__(self, bundle: Bundle, kept: Kept | None = None, experience: Experience | None = None) -> None:
        self.bundle, self.experience = bundle, experience
        self._taught = experience.digest if experience is not None else b""
        self.kept = kept if kept is not None else Kept()
        self._digests: dict[Key[Any], Digest] = {}
        # runs of changed projects that were looked for, and how much was kept by then
        self._looked_up: tuple[int, dict[int, tuple[Mapping[str, object], Judgement | None]]] = (0, {})

    def digest(self, key: Key[Any]) -> Digest:
        """What the result depends on, as a digest."""
        return digest_of(key, self.bundle, self._digests, self._taught)

    def known(self, key: Key[Any]) -> bool:
        """Whether the result stands computed for the project as it is."""
        return self.kept.get(key.cost, self.digest(key), _NONE) is not _NONE

    def in_file(self, key: Key[Any]) -> KeptRun | None:
        """The run that the project file holds of this result for the project as it is."""
        if key.name != FULL_RUN.name or not self.bundle.project.runs:
            return None
        digest = self.digest(key)
        return next((run for run in self.bundle.project.runs if belongs(run, digest)), None)

    def judgement_key(self) -> Key[Judgement]:
        """The judgement that everybody shows: by the finest full run that is there for the project as it is, else the quick one."""
        for resolution in RESOLUTIONS:
            for bodies in ("all", "one"):
                if self.there(FULL_RUN.of(resolution=resolution, bodies=bodies)) is not None:
                    return JUDGEMENT.of(full=resolution, bodies=bodies)
        checked = self.peek(SETTINGS_CHECK)
        if checked is None or checked.of is None:
            return JUDGEMENT
        key = checked.of  # the shelf of runs is short: the one that the check made may have gone from it
        self.kept.put(key.cost, self.digest(key), checked.run)
        return JUDGEMENT.of(full=key["resolution"], bodies=key["bodies"])

    def run_judgement(self, changes: Mapping[str, object]) -> Judgement | None:
        """The judgement by the finest full run that is known of the project with changes, by path; None where none is."""
        if self._looked_up[0] != self.kept.count:
            self._looked_up = self.kept.count, {}
        looked_up = self._looked_up[1]
        if id(changes) not in looked_up:
            looked_up[id(changes)] = changes, self._run_judgement(changes)
        return looked_up[id(changes)][1]

    def _run_judgement(self, changes: Mapping[str, object]) -> Judgement | None:
        other = self.bundle.project.model_copy(update=dict(changes))
        asked = Results(Bundle(other, self.bundle.originals), self.kept, self.experience)
        known = (asked.peek(JUDGEMENT.of(full=r, bodies=b)) for r in RESOLUTIONS for b in ("all", "one"))
        return next((found for found in known if found is not None), None)

    def as_judged(self, key: Key[T]) -> Key[T]:
        """A result that starts from a judgement, by the one that everybody shows."""
        by = self.judgement_key()
        return key.of(full=by["full"], bodies=by["bodies"])

    def judging_run(self) -> FullRun | None:
        """The full run behind the judgement that everybody shows; None where that is the quick one."""
        key = self.judgement_key()
        return self.there(FULL_RUN.of(resolution=key["full"], bodies=key["bodies"])) if key != JUDGEMENT else None

    def there(self, key: Key[T]) -> T | None:
        """The result if it is computed or kept in the project file, else None; a run that is damaged there is computed anew."""
        found, run = self.peek(key), self.in_file(key)
        if found is not None or run is None:
            return found
        try:
            self.kept.put(key.cost, self.digest(key), opened(self.bundle, run))
        except InputError as error:
            _LOG.warning("%s", error)
        return self.peek(key)

    def peek(self, key: Key[T]) -> T | None:
        """The result if it is computed, else None."""
        return cast("T | None", self.kept.get(key.cost, self.digest(key)))

    def get(self, key: Key[T], run: RunContext | None = None) -> T:
        """The result, computed now where it is not known, with what it needs.

        Raises
        ------
        MandorlaError
            What the computation refuses; :class:`Cancelled` when the run is asked to stop.
        """
        digest = self.digest(key)
        found = self.kept.get(key.cost, digest, _NONE)
        if found is not _NONE:
            return cast(T, found)
        stored = self.there(key)
        if stored is not None:
            return stored
        if run is not None and run.cancelled:
            raise Cancelled(f"stopped before: {key.title}")
        needs = _Needs(self, key, key.needs(key), run)
        value = function_of(key)(key, self.bundle, needs, run or RunContext())
        self.kept.put(key.cost, digest, value)
        return cast(T, value)
