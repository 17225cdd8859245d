"""What every command is made of: its name, its arguments, what it does with a project's results."""

from __future__ import annotations

import argparse
import math
import sys
from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from pydantic import BaseModel, ConfigDict

from mandorla.cli.output import UNITS, progress, quantity
from mandorla.core.errors import LogbookError
from mandorla.core.failure.state import State
from mandorla.core.failure.words import clause
from mandorla.core.logbook.place import default_path
from mandorla.core.project.models import Project
from mandorla.core.project.store import Bundle
from mandorla.core.results.key import Key
from mandorla.core.results.keys import SETTINGS_CHECK
from mandorla.core.results.results import Results, T
from mandorla.core.runtime import RunContext
from mandorla.core.units import UnitPreferences

if TYPE_CHECKING:
    from mandorla.core.logbook.learning import Experience
    from mandorla.core.results.types import Judgement


class Output(BaseModel):
    """Base of what a command prints as JSON; the schemas in docs/ are generated from these models."""

    model_config = ConfigDict(extra="forbid")


class Quantity(Output):
    """A number with its SI unit; null where it does not exist."""

    value: float | None
    unit: str


class Band(Quantity):
    """A number with its 90 % range."""

    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Call:
    """One call of a command: its options and the results of the project it is about."""

    options: argparse.Namespace
    results: Results

    @property
    def bundle(self) -> Bundle:
        """The project with its originals, edits applied."""
        return self.results.bundle

    @property
    def project(self) -> Project:
        """The project."""
        return self.results.bundle.project

    @property
    def units(self) -> UnitPreferences:
        """The units of the text."""
        return UNITS[self.options.units]

    @property
    def json(self) -> bool:
        """Whether JSON was asked for."""
        return bool(getattr(self.options, "json", False))

    @property
    def check(self) -> bool:
        """Whether answers wait for full simulations."""
        return not self.options.no_check

    def judgement(self) -> Judgement:
        """The judgement that everybody shows: by the finest full run that is there; where none is, after one at draft."""
        if self.check and (problem := self.get(SETTINGS_CHECK).problem):
            print(f"mandorla: {problem}; the judgement is the quick estimate's.", file=sys.stderr)
        return self.get(self.results.judgement_key())

    def get(self, key: Key[T]) -> T:
        """A result, with progress on a terminal."""
        return self.results.get(key, RunContext(report=progress))


HOLDS, FAILS, REFUSED, NOT_DETERMINED = 0, 1, 2, 3  # exit status of commands that judge


def check_arguments(parser: argparse.ArgumentParser) -> None:
    """What every command takes whose answers are checked by full simulations."""
    parser.add_argument(
        "--no-check", action="store_true",
        help="do not wait for full simulations: the quick estimate's answer, and suggestions that are not checked",
    )  # fmt: skip


def judged_arguments(parser: argparse.ArgumentParser) -> None:
    """What every command that judges takes."""
    parser.add_argument(
        "--fail-on", choices=("fails", "marginal"), default="fails",
        help="exit status 1 for what fails (the default), or for what is marginal as well; 3 where it is not determined",
    )  # fmt: skip


def exit_status(state: State, determined: bool, fail_on: str) -> int:
    """The exit status of a judged state: 0 holds, 1 fails (or is marginal, where that is asked for), 3 not determined."""
    if state is State.FAILS or (state is State.MARGINAL and fail_on == "marginal"):
        return FAILS
    return HOLDS if determined and state is not State.NOT_COMPUTED else NOT_DETERMINED


class JudgedRow(Output):
    """One way to fail: its state, chance, margin (ln ratio, or K for temperatures) with one standard deviation, words, model."""

    key: str
    title: str
    state: str
    probability: float | None
    margin: float | None
    spread: float | None
    begins_at: Quantity
    sentence: str
    consequence: str
    source: str
    levers: list[str]


class JudgementOutput(Output):
    """Every way to fail that counts, the one that fails first, and the chance that any does."""

    status: str
    determined: bool
    fails_first: str
    probability_of_any: float | None
    risk_accepted: float
    ways: list[JudgedRow]


def judgement_answer(j: Judgement, units: UnitPreferences) -> dict[str, Any]:
    """The judgement as one object."""

    def plain(value: float) -> float | None:
        return value if math.isfinite(value) else None

    return {
        "status": j.whole.value, "determined": j.determined, "fails_first": j.first, "probability_of_any": plain(j.anything),
        "risk_accepted": j.risk,
        "ways": [
            {"key": k, "title": j.titles[k], "state": a.state.value, "probability": plain(a.probability),
             "margin": plain(a.margin), "spread": plain(a.spread),
             "begins_at": quantity(a.begins.height if a.begins is not None else float("nan"), "m"),
             "sentence": clause(j, k, units), "consequence": a.consequence, "source": a.source, "levers": list(a.levers)}
            for k, a in j.counted.items()
        ],
    }  # fmt: skip


@dataclass(frozen=True, slots=True)
class Command:
    """A command: ``name``, one line of ``help``, what adds its ``arguments``, what ``run``s it (exit status), JSON ``output``;
    one that is not about a single project has ``plain`` instead, which gets its options."""

    name: str
    help: str
    run: Callable[[Call], int] | None
    arguments: Callable[[argparse.ArgumentParser], None] = lambda _: None
    output: type[BaseModel] | None = None
    plain: Callable[[argparse.Namespace], int] | None = None


def experience_for(bundle: Bundle, options: argparse.Namespace) -> Experience | None:
    """What the workshop's prints have taught; None where there is no book, or the project does not ask for it."""
    if options.logbook is None and not default_path().exists():
        return None
    from mandorla.core.logbook.workshop import taught  # the numerics load late

    try:
        return taught(bundle.project.criteria.from_prints, options.logbook)
    except LogbookError as error:
        print(f"mandorla: {error} Predictions are the library's alone.", file=sys.stderr)
        return None
