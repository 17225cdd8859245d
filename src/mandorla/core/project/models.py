"""The project as one frozen, validated value; what is saved, edited, undone and computed from."""

from __future__ import annotations

from typing import Final, Literal

from pydantic import Field, ValidationError

from mandorla.core.errors import InputError, Problem
from mandorla.core.measure.models import Measurements
from mandorla.core.model_base import Model
from mandorla.core.part.process import PartSource, Process
from mandorla.core.quantity_field import quantity
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, ProgramStep, Settings
from mandorla.core.run.model import MOST_RECORDS, RunPlan, RunRecord

SCHEMA_VERSION: Final = 8


class Scenario(Model):
    """Settings pinned under a name, with the process they belong to."""

    name: str = Field(min_length=1, max_length=60, title="Name")
    settings: Settings
    process: Process


class Build(Model):
    """A whole machine kept under a name, to be compared with others and taken back."""

    name: str = Field(min_length=1, max_length=60, title="Name")
    rig: Rig
    invested: float = quantity("money", 0.0, 1e7, "It costs", default=0.0)


class KeptRun(Model):
    """A full simulation kept in the project: its ``file`` among the originals, how it was run and when, and by ``digest`` and
    ``version`` the state of the project and the program that it belongs to."""

    key: str = Field(min_length=1, max_length=40)
    file: str = Field(min_length=1, max_length=120)
    resolution: Literal["draft", "standard", "fine"]
    bodies: Literal["all", "one"]
    digest: str = Field(pattern="^[0-9a-f]{32}$")
    version: str = Field(max_length=40)
    date: str = Field(pattern=r"^\d{4}-\d{2}-\d{2}$")
    says: str = Field(default="", max_length=400)


MOST_RUNS: Final = 6
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
    run_plan: RunPlan = RunPlan()
    records: tuple[RunRecord, ...] = Field(default=(), max_length=MOST_RECORDS)
    runs: tuple[KeptRun, ...] = Field(default=(), max_length=MOST_RUNS)

    def originals(self) -> set[str]:
        """Names of the files that the project refers to: what was imported, and runs that are kept."""
        part = set(self.part.files) if self.part is not None else set()
        processes = (self.process, *(s.process for s in self.scenarios))
        maps = {p.first.probed.map for p in processes if p.first is not None and p.first.probed is not None}
        kept = {run.file for run in self.runs} | {record.file for record in self.records}
        return self.measurements.originals() | part | maps | kept


def problems_of(error: ValidationError, root: str = "") -> tuple[Problem, ...]:
    """All complaints of a validation, each with its place, the value and what is allowed."""
    found = []
    for item in error.errors():
        where = ".".join(str(p) for p in item["loc"]) or root or "value"
        given = item.get("input")
        value = repr(given) if not isinstance(given, dict | list | tuple) else type(given).__name__
        if item["type"] == "missing":  # it is the whole that was given
            value = "nothing"
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
