"""A plan of many computations: projects x parts x values of fields, as TOML; everything that is wrong with it at once, with its
line."""

from __future__ import annotations

import hashlib
import itertools
import re
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any, Final, Literal, Self

from pydantic import Field, ValidationError, model_validator

from mandorla import __version__
from mandorla.core.errors import InputError, MandorlaError, Problem
from mandorla.core.input_file import bytes_of, text_of
from mandorla.core.logbook.learning import Experience
from mandorla.core.logbook.workshop import taught
from mandorla.core.model_base import Model
from mandorla.core.project.models import Project
from mandorla.core.project.paths import parse_at, set_value
from mandorla.core.project.store import read_bundle

MOST: Final = 1_000_000  # computations
_HEADER = re.compile(r"^\s*\[\[?\s*([A-Za-z_]+)\s*\]\]?")
_KEY = re.compile(r"^\s*([A-Za-z_][A-Za-z_0-9]*)\s*=")


class Vary(Model):
    """A field by its path and the ``values`` that it takes: texts as after ``--set``, or bare SI numbers; or evenly from
    ``first`` to ``last`` in so many ``steps``."""

    path: str = Field(min_length=1, max_length=200)
    values: tuple[str | float, ...] = Field(default=(), max_length=10000)
    first: float | None = None
    last: float | None = None
    steps: int = Field(default=0, ge=0, le=10000)

    @model_validator(mode="after")
    def _one_way(self) -> Self:
        span = (self.first is not None, self.last is not None, self.steps > 0)
        if bool(self.values) == any(span) or (any(span) and not all(span)):
            raise ValueError("state either values, or first, last and steps")
        return self

    def texts(self) -> tuple[str, ...]:
        """The values as they are typed after ``--set``."""
        if self.values:
            return tuple(v if isinstance(v, str) else f"{v:.12g}" for v in self.values)
        assert self.first is not None
        assert self.last is not None
        if self.steps == 1:
            return (f"{self.first:.12g}",)
        return tuple(f"{self.first + (self.last - self.first) * k / (self.steps - 1):.12g}" for k in range(self.steps))


class Plan(Model):
    """What is computed: every project with every part (none: its own) at every combination of values; by a ``full`` simulation
    where a resolution is named. Paths are relative to the plan's file; ``part_unit`` is metres per unit of the parts' files."""

    projects: tuple[str, ...] = Field(min_length=1, max_length=1000)
    parts: tuple[str, ...] = Field(default=(), max_length=1000)
    part_unit: float = Field(default=0.001, gt=0.0, le=1.0)
    full: Literal["", "draft", "standard", "fine"] = ""
    vary: tuple[Vary, ...] = Field(default=(), max_length=12)


@dataclass(frozen=True, slots=True)
class Task:
    """One computation: files by absolute path (``part`` empty: the project's own), edits as (path, text), its stable ``key``, and
    the workshop's ``logbook`` whose prints it is predicted by (empty: none)."""

    key: str
    project: str
    part: str
    part_unit: float
    edits: tuple[tuple[str, str], ...]
    full: str
    logbook: str = ""


def read_plan(path: Path) -> Plan:
    """Read and check a plan.

    Raises
    ------
    InputError
        With every problem at once, each with its line and key.
    """
    text = text_of(path)
    try:
        data = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"“{path.name}” is no plan: {str(error)[:200]}.") from None
    except (RecursionError, ValueError) as error:  # too deep, or a number of thousands of digits
        raise InputError(f"“{path.name}” is no plan: {str(error)[:80]}.") from None
    lines = text.splitlines()
    try:
        plan = Plan.model_validate(data)
    except ValidationError as error:
        problems = tuple(
            Problem(_place(lines, e["loc"]), repr(e.get("input"))[:60], _allowed(e))
            for e in error.errors(include_url=False)
        )
        raise InputError(f"“{path.name}” has {len(problems)} mistakes:", problems=problems) from None
    problems = (*_missing_files(plan, path.parent, lines), *_refused(plan, path.parent, lines))
    if problems:
        raise InputError(f"“{path.name}” has {len(problems)} mistakes:", problems=problems)
    count = len(plan.projects) * max(1, len(plan.parts))
    for v in plan.vary:
        count *= len(v.texts())
    if count > MOST:
        raise InputError(f"“{path.name}” asks for {count} computations; at most {MOST} are made at once.")
    return plan


def _allowed(error: Any) -> str:
    kinds = {"extra_forbidden": "a key of a plan: projects, parts, part_unit, full, vary (path, values, first, last, steps)",
             "missing": "it has to be stated"}  # fmt: skip
    return kinds.get(error["type"], str(error["msg"]).removeprefix("Value error, "))


def _place(lines: Sequence[str], loc: tuple[Any, ...]) -> str:
    """Line and key of a place in a plan."""
    names = [p for p in loc if not (isinstance(p, str) and p in ("str", "float"))]
    key = ".".join(str(p) for p in names)
    if not names:
        return "the plan"
    if names[0] != "vary" or len(names) == 1:
        return f"line {_line_of(lines, str(names[0]), 0)}, {key}"
    block = int(names[1])
    starts = [n for n, line in enumerate(lines) if (m := _HEADER.match(line)) is not None and m[1] == "vary"]
    start = starts[block] if block < len(starts) else 0
    if len(names) == 2:
        return f"line {start + 1}, {key}"
    return f"line {_line_of(lines, str(names[2]), start + 1) or start + 1}, {key}"


def _line_of(lines: Sequence[str], key: str, start: int) -> int:
    for n in range(start, len(lines)):
        m = _KEY.match(lines[n])
        if m is not None and m[1] == key:
            return n + 1
    return start


def _missing_files(plan: Plan, folder: Path, lines: Sequence[str]) -> tuple[Problem, ...]:
    found = []
    for name in ("projects", "parts"):
        for file in getattr(plan, name):
            if not (folder / file).is_file():
                found.append(Problem(_place(lines, (name,)), f"“{file}”", "a file that is there, beside the plan"))
    return tuple(found)


def _refused(plan: Plan, folder: Path, lines: Sequence[str]) -> tuple[Problem, ...]:
    """Values that the first project's fields refuse, each by itself."""
    first = folder / plan.projects[0]
    if not first.is_file():
        return ()
    try:
        project = read_bundle(first).project
    except MandorlaError as error:
        return (Problem(_place(lines, ("projects",)), f"“{plan.projects[0]}”", str(error.message)),)
    found = []
    for k, vary in enumerate(plan.vary):
        for text in vary.texts():
            try:
                edited(project, ((vary.path, text),))
            except InputError as error:
                name = "values" if vary.values else "first"
                said = str(error.problems[0].allowed) if error.problems else error.message
                field = "path" if error.message.startswith("There is no") else name
                found.append(Problem(_place(lines, ("vary", k, field)), f"{vary.path} = {text}", said))
                if field == "path":
                    break
    return tuple(found)


def edited(project: Project, edits: Sequence[tuple[str, str]]) -> Project:
    """A project with fields set by typed texts. Raises :class:`InputError`."""
    for path, text in edits:
        project = set_value(project, path, parse_at(project, path, text, si=True))
    return project


def tasks_of(plan: Plan, folder: Path, logbook: Path | None = None) -> list[Task]:
    """All computations of a plan in their order; keys change with the files' contents, the edits, what the ``logbook``'s prints
    have taught, and the program's version. Raises :class:`LogbookError` for a book that cannot be read."""
    known = experience_of(str(logbook)) if logbook is not None else None
    book = str(logbook.resolve()) if logbook is not None and known is not None else ""
    marks = {name: hashlib.sha256(bytes_of(folder / name)).hexdigest() for name in (*plan.projects, *plan.parts)}
    columns = [[(v.path, text) for text in v.texts()] for v in plan.vary]
    found = []
    for project, part in itertools.product(plan.projects, plan.parts or ("",)):
        for edits in itertools.product(*columns):
            told: tuple[object, ...] = (
                marks[project], marks.get(part, ""), plan.part_unit if part else 0.0, edits, plan.full, __version__,
            )  # fmt: skip
            if known is not None:
                told = (*told, known.digest)
            key = hashlib.sha256(repr(told).encode()).hexdigest()[:16]
            where = str((folder / part).resolve()) if part else ""
            found.append(Task(key, str((folder / project).resolve()), where, plan.part_unit, edits, plan.full, book))
    return found


@cache
def experience_of(logbook: str) -> Experience | None:
    """What a book's prints have taught, learned once a process; None where there are none. Raises :class:`LogbookError`."""
    return taught(True, Path(logbook))
