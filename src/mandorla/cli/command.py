"""What every command is made of: its name, its arguments, what it does with a project's results."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from dataclasses import dataclass

from pydantic import BaseModel, ConfigDict

from mandorla.cli.output import UNITS, progress
from mandorla.core.project.models import Project
from mandorla.core.project.store import Bundle
from mandorla.core.results.key import Key
from mandorla.core.results.results import Results, T
from mandorla.core.runtime import RunContext
from mandorla.core.units import UnitPreferences


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

    def get(self, key: Key[T]) -> T:
        """A result, with progress on a terminal."""
        return self.results.get(key, RunContext(report=progress))


@dataclass(frozen=True, slots=True)
class Command:
    """A command: ``name``, one line of ``help``, what adds its ``arguments``, what ``run``s it (exit status), JSON ``output``."""

    name: str
    help: str
    run: Callable[[Call], int]
    arguments: Callable[[argparse.ArgumentParser], None] = lambda _: None
    output: type[BaseModel] | None = None
