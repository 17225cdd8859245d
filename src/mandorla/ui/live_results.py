"""The results of the open project beside the interface: computed where something that is seen wants them, told when they change."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Mapping
from enum import Enum
from typing import TYPE_CHECKING, Any, Final, TypeVar, cast

from PySide6.QtCore import QObject, QTimer, Signal

from mandorla.core.errors import Cancelled, InputError, MandorlaError
from mandorla.core.project.store import Bundle
from mandorla.core.results.digest import Digest
from mandorla.core.results.kept_runs import key_of
from mandorla.core.results.key import Cost, Key
from mandorla.core.results.keys import EVALUATION, FULL_RUN, JUDGEMENT, SETTINGS_CHECK, SUGGESTIONS
from mandorla.core.results.results import Kept, Results
from mandorla.core.runtime import RunContext
from mandorla.ui.jobs import Job, Jobs, Lane

if TYPE_CHECKING:
    from mandorla.core.logbook.learning import Experience
    from mandorla.core.results.types import FullRun, Judgement

T = TypeVar("T")
PAUSE_MS: Final[Mapping[Cost, int]] = {Cost.SHORT: 350, Cost.BACKGROUND: 900}
_RUNS: Final = (SETTINGS_CHECK.name, SUGGESTIONS.name)  # what runs full simulations of its own accord
_LOG = logging.getLogger(__name__)


class Standing(Enum):
    """How a result stands for the project as it is."""

    MISSING = "missing"
    COMPUTING = "computing"
    READY = "ready"
    STALE = "stale"
    FAILED = "failed"


def in_words(error: BaseException) -> str:
    """What went wrong, as a person reads it: a refusal's first line, or a defect of ours with what it is called."""
    text = str(error).splitlines()[0] if str(error) else ""
    if isinstance(error, MandorlaError):
        return text
    if isinstance(error, MemoryError):
        return "There is not enough memory for this. Close other programs, or choose a coarser resolution."
    return f"Internal error ({type(error).__name__}): {text}"


class LiveResults(QObject):
    """Computes what is wanted, quick things first, one slow thing at a time; keeps the last value of each."""

    changed = Signal(str)
    progressed = Signal(str, float, str)
    gave = Signal(str, object)
    failed = Signal(str, str)

    def __init__(self, jobs: Jobs, bundle: Bundle) -> None:
        super().__init__()
        self._jobs = jobs
        self._results = Results(bundle, Kept())
        self.experience: Experience | None = None
        self._wants: dict[str, tuple[Key[Any], ...]] = {}
        self._asked: list[Key[Any]] = []
        self._running: dict[Key[Any], tuple[Job, Digest]] = {}
        self._errors: dict[Key[Any], tuple[Digest, BaseException]] = {}
        self._last: dict[Key[Any], tuple[Digest, Any]] = {}
        self._closed = False
        self._judged_by: Key[Judgement] = JUDGEMENT  # which judgement is shown
        self._due: set[Cost] = {Cost.QUICK, Cost.ON_DEMAND}
        self._timers = {}
        for cost, pause in PAUSE_MS.items():
            timer = QTimer(self, singleShot=True, interval=pause)
            timer.timeout.connect(lambda c=cost: self._come_due(c))
            self._timers[cost] = timer
            timer.start()
        jobs.progressed.connect(self._on_progress)
        jobs.stopped.connect(self._on_stopped)

    # ---- the project
    @property
    def results(self) -> Results:
        """The results of the project as it is, for what is computed in line on a job's thread."""
        return self._results

    def set_bundle(self, bundle: Bundle) -> None:
        """Follow the project: what no longer belongs to it is stopped, what is wanted is computed anew after a pause."""
        before = self._results
        self._results = Results(bundle, before.kept, self.experience)
        self._due -= set(self._timers)
        for timer in self._timers.values():
            timer.start()
        for key, (job, digest) in list(self._running.items()):
            if key.cost is not Cost.ON_DEMAND and digest != self._results.digest(key):
                self._jobs.cancel(job)
                del self._running[key]
        self._judged_by = self._results.judgement_key()
        self._work()
        self.bring_kept()
        # what stands already for the new state is told: nothing will be computed that would tell it
        told = dict.fromkeys(each for keys in self._wants.values() for key in keys for each in (*key.needs(key), key))
        for key in told:
            if self._results.known(key) and before.digest(key) != self._results.digest(key):
                self._last[key] = (self._results.digest(key), self._results.peek(key))
                self.changed.emit(key.name)

    def learn_from(self, experience: Experience | None) -> None:
        """Predict by what the workshop's prints have taught from now on."""
        same = (experience.digest if experience is not None else b"") == (
            self.experience.digest if self.experience is not None else b""
        )
        self.experience = experience
        if not same:
            self.set_bundle(self._results.bundle)

    def close(self) -> None:
        """Nothing more is started; closing twice is closing once."""
        if self._closed:
            return
        self._closed = True
        for timer in self._timers.values():
            timer.stop()
            timer.timeout.disconnect()  # what it is connected to holds this object, where no collector sees it
        for job, _ in self._running.values():
            self._jobs.cancel(job)
        self._running.clear()

    def bring_kept(self) -> None:
        """Open the full runs that the project file holds for the project as it is, beside the interface."""
        for key in dict.fromkeys(key_of(run) for run in self._results.bundle.project.runs):
            if not self._results.known(key) and self._results.in_file(key) is not None and not self.busy(key):
                self.ask(key)

    # ---- asking
    def want(self, owner: str, keys: Iterable[Key[Any]]) -> None:
        """What an owner looks at; it replaces what the owner looked at before, nothing that nobody looks at is computed."""
        self._wants[owner] = tuple(keys)
        self._work()

    def ask(self, key: Key[Any]) -> None:
        """Compute a result that is only computed when a person asks for it."""
        self._errors.pop(key, None)
        if key not in self._asked:
            self._asked.append(key)
        self.changed.emit(key.name)
        self._work()

    def stop(self, key: Key[Any]) -> None:
        """Stop a running computation; what it gave so far is the receiver's."""
        if key in self._asked:
            self._asked.remove(key)
        found = self._running.pop(key, None)
        if found is not None:
            self._jobs.cancel(found[0])
        self.changed.emit(key.name)
        self._work()

    # ---- reading
    def value(self, key: Key[T]) -> T | None:
        """The result for the project as it is, None where it is not known."""
        return self._results.peek(key)

    def judgement(self) -> Judgement | None:
        """The judgement that everybody shows: by the finest full run that is there, else the quick one; None until that is there.

        Light: what it is made of is known already.
        """
        return self._results.get(self._results.judgement_key()) if self._results.known(EVALUATION) else None

    def judgement_key(self) -> Key[Judgement]:
        """Which judgement everybody shows."""
        return self._results.judgement_key()

    def as_judged(self, key: Key[T]) -> Key[T]:
        """A result that starts from a judgement, by the one that everybody shows."""
        return self._results.as_judged(key)

    def run_judgement(self, changes: Mapping[str, object]) -> Judgement | None:
        """The judgement by the finest full run that is known of the project with changes, by path; None where none is."""
        return self._results.run_judgement(changes)

    def judging_run(self) -> FullRun | None:
        """The full run behind that judgement; None where it is the quick one."""
        return self._results.judging_run()

    def judgement_of(self, run: Key[FullRun]) -> Judgement | None:
        """The judgement by a full run of the project as it is."""
        if not self._results.known(EVALUATION) or self._results.there(run) is None:
            return None
        return self._results.get(JUDGEMENT.of(full=run["resolution"], bodies=run["bodies"]))

    def known(self, key: Key[Any]) -> bool:
        """Whether the result stands for the project as it is, even where it is None."""
        return self._results.known(key)

    def last(self, key: Key[T]) -> T | None:
        """The newest value, which may belong to what was before."""
        found = self.value(key)
        if found is None and key in self._last:
            return cast(T, self._last[key][1])
        return found

    def standing(self, key: Key[Any]) -> Standing:
        """How the result stands."""
        if self._results.known(key):
            return Standing.READY
        if self.busy(key):
            return Standing.COMPUTING
        if self.error(key) is not None:
            return Standing.FAILED
        return Standing.STALE if key in self._last else Standing.MISSING

    def busy(self, key: Key[Any]) -> bool:
        """Whether it is being computed, or will be as soon as its turn comes."""
        if key in self._running or key in self._asked:
            return True
        # what a person has to ask for is not on its way by being looked at
        wanted = key.cost is not Cost.ON_DEMAND and any(key in keys for keys in self._wants.values())
        return wanted and not self._results.known(key) and self.error(key) is None

    @property
    def waiting(self) -> tuple[Key[Any], ...]:
        """What is wanted by something that is seen and is not there yet, running or not."""
        return (*self._running, *(key for key in self._open() if key.cost is not Cost.ON_DEMAND or key in self._asked))

    @property
    def settled(self) -> bool:
        """Whether nothing runs and everything that is wanted is there, or has failed."""
        return not self._running and all(key.cost is Cost.ON_DEMAND for key in self._open() if key not in self._asked)

    def error(self, key: Key[Any]) -> BaseException | None:
        """Why it failed for the project as it is; a result fails with what it needs."""
        found = self._errors.get(key)
        if found is not None and found[0] == self._results.digest(key):
            return found[1]
        return next((e for need in key.needs(key) if (e := self.error(need)) is not None), None)

    # ---- working
    def _come_due(self, cost: Cost) -> None:
        self._due.add(cost)
        self._work()

    def _open(self) -> list[Key[Any]]:
        """What is wanted and not known, in the order in which it is computed."""
        wanted = [key for keys in self._wants.values() for key in keys]
        found = []
        for key in (*wanted, *self._asked):
            for each in (*self._slow_needs(key), key):
                if each in found or each in self._running or self._results.known(each) or self.error(each) is not None:
                    continue
                found.append(each)
        # what a person asked for comes before what is merely seen
        return sorted(found, key=lambda k: (k.cost is not Cost.QUICK, k not in self._asked, k.cost))

    def _slow_needs(self, key: Key[Any]) -> list[Key[Any]]:
        """Needs that are computed by themselves: quick ones are computed in line with what needs them."""
        found: list[Key[Any]] = []
        for need in key.needs(key):
            found += self._slow_needs(need)
            if need.cost is not Cost.QUICK or key.cost is not Cost.QUICK:
                found.append(need)
        return found

    def _work(self) -> None:
        if self._closed:
            return
        # what was asked for ends with what it needs, or was made on the way by something else
        for key in [k for k in self._asked if k not in self._running and (self.error(k) is not None or self.known(k))]:
            self._asked.remove(key)
            if self.known(key):
                self._last[key] = (self._results.digest(key), self.value(key))
            self.changed.emit(key.name)
        busy = {job.lane for job, _ in self._running.values()}
        for key in self._open():
            lane = Lane.QUICK if key.cost is Cost.QUICK else Lane.SLOW
            asked = key in self._asked
            if key.cost is Cost.ON_DEMAND and not asked:
                continue  # a person has to ask for it, whatever needs it
            if lane in busy or not (asked or key.cost in self._due):
                continue
            if any(not self._results.known(need) for need in key.needs(key) if need.cost is not Cost.QUICK):
                continue
            if lane is Lane.SLOW and any(not self._results.known(n) for n in key.needs(key)):
                continue  # the quick lane is at it
            self._start(key, lane)
            busy.add(lane)
            if len(busy) == 2:
                return

    def _start(self, key: Key[Any], lane: Lane) -> None:
        results, digest = self._results, self._results.digest(key)

        def work(run: RunContext) -> Any:
            return results.get(key, run)

        job = self._jobs.start(
            key.title, work, lane, done=lambda value: self._done(key, digest, value),
            failed=lambda error: self._failed(key, digest, error), partial=lambda value: self.gave.emit(key.name, value),
            shown=lane is Lane.SLOW,
        )  # fmt: skip
        self._running[key] = (job, digest)

    def _done(self, key: Key[Any], digest: Digest, value: Any) -> None:
        self._running.pop(key, None)
        if key in self._asked:
            self._asked.remove(key)
        self._last[key] = (digest, value)
        self._errors.pop(key, None)
        told = [key.name]
        for need in key.needs(key):  # quick needs come along
            found = self._results.peek(need)
            if found is not None:
                self._last[need] = (self._results.digest(need), found)
                if need.cost is Cost.QUICK and key.cost is Cost.QUICK:
                    told.append(need.name)
        judged = key.name in _RUNS or self._judged_by != self._results.judgement_key()
        if judged and FULL_RUN.name not in told:
            told.append(FULL_RUN.name)  # a full run may stand behind the judgement now
        self._judged_by = self._results.judgement_key()
        for name in told:
            self.changed.emit(name)
        self._work()

    def _tell_if_judged(self) -> None:
        """A job that is about other states may have run the present one in full on its way: everybody shows it at once."""
        by = self._results.judgement_key()
        if by != self._judged_by:
            self._judged_by = by
            self.changed.emit(FULL_RUN.name)

    def _failed(self, key: Key[Any], digest: Digest, error: BaseException) -> None:
        self._running.pop(key, None)
        if key in self._asked:
            self._asked.remove(key)
        self._errors[key] = (digest, error)
        if not isinstance(error, InputError):
            # what is refused on purpose has said why; where anything else came from is worth a traceback
            _LOG.error("%s failed: %s", key, error, exc_info=None if isinstance(error, MandorlaError) else error)
        self.failed.emit(key.name, in_words(error))
        self.changed.emit(key.name)
        self._work()

    def _on_progress(self, job: Job) -> None:
        self._tell_if_judged()
        for key, (own, _) in self._running.items():
            if own is job:
                self.progressed.emit(key.name, job.fraction, job.stage)

    def _on_stopped(self, job: Job) -> None:
        """Stopped from the list: it is not begun again by itself, until the project changes or a person asks."""
        for key, (own, digest) in list(self._running.items()):
            if own is job:
                del self._running[key]
                if key in self._asked:
                    self._asked.remove(key)
                if key.cost is not Cost.ON_DEMAND:
                    self._errors[key] = (digest, Cancelled("Stopped."))
                self.changed.emit(key.name)
        self._work()
