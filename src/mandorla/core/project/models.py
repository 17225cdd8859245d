"""The project as one frozen, validated value; what is saved, edited, undone and computed from."""

from __future__ import annotations

from typing import Final

from pydantic import Field, ValidationError

from mandorla.core.errors import InputError, Problem
from mandorla.core.measure.models import Measurements
from mandorla.core.model_base import Model
from mandorla.core.part.process import PartSource, Process
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, ProgramStep, Settings

SCHEMA_VERSION: Final = 4


class Scenario(Model):
    """Settings pinned under a name, with the process they belong to."""

    name: str = Field(min_length=1, max_length=60, title="Name")
    settings: Settings
    process: Process


class Build(Model):
    """A whole machine kept under a name, to be compared with others and taken back."""

    name: str = Field(min_length=1, max_length=60, title="Name")
    rig: Rig


MOST_BUILDS: Final = 5
MOST_SCENARIOS: Final = 4


class Project(Model):
    """Everything about one question: the rig, the part, the process, the settings, the criteria, pinned scenarios."""

    schema_version: int = Field(default=SCHEMA_VERSION, ge=1, le=SCHEMA_VERSION)
    name: str = Field(min_length=1, max_length=80, title="Name")
    notes: str = Field(default="", max_length=20000, title="Notes")
    rig: Rig
    part: PartSource | None = None
    process: Process = Process()
    settings: Settings = Settings()
    criteria: Criteria = Criteria()
    program: tuple[ProgramStep, ...] = Field(default=(), max_length=12)
    scenarios: tuple[Scenario, ...] = Field(default=(), max_length=MOST_SCENARIOS)
    builds: tuple[Build, ...] = Field(default=(), max_length=MOST_BUILDS)
    measurements: Measurements = Measurements()

    def originals(self) -> set[str]:
        """Names of the imported files that the project refers to."""
        return self.measurements.originals() | (set(self.part.files) if self.part is not None else set())


def problems_of(error: ValidationError, root: str = "") -> tuple[Problem, ...]:
    """All complaints of a validation, each with its place, the value and what is allowed."""
    found = []
    for item in error.errors():
        where = ".".join(str(p) for p in item["loc"]) or root or "value"
        given = item.get("input")
        value = repr(given) if not isinstance(given, dict | list | tuple) else type(given).__name__
        found.append(Problem(where, value[:80], _allowed(item["type"], item["msg"])))
    return tuple(found)


def _allowed(kind: str, message: str) -> str:
    if kind == "extra_forbidden":
        return "no such field exists here"
    if kind == "missing":
        return "the field is required"
    return message.removeprefix("Value error, ")


def build(model: type[Model], data: object, what: str) -> Model:
    """Validate data into a model. Raises :class:`InputError` with all problems at once."""
    try:
        return model.model_validate(data)
    except ValidationError as error:
        raise InputError(f"{what} is not acceptable.", problems=problems_of(error, what)) from None
