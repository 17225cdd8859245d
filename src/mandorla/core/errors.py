"""The exception tree of the core: stable codes, the offending value, where it stands and what is allowed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

LONGEST: Final = 1200  # characters of a message; nobody reads more


@dataclass(frozen=True, slots=True)
class Problem:
    """One thing that is wrong with an input.

    ``where`` is the path or place, ``value`` the offending value as text, ``allowed`` what would be accepted.
    """

    where: str
    value: str
    allowed: str

    def __str__(self) -> str:
        return f"{self.where}: {self.value} is not accepted; {self.allowed}"


class MandorlaError(Exception):
    """Root of all errors that Mandorla raises on purpose."""

    code = "error"

    def __init__(self, message: str, *, problems: tuple[Problem, ...] = ()) -> None:
        message = message if len(message) <= LONGEST else f"{message[:LONGEST]} …"
        super().__init__(message)
        self.message = message
        self.problems = problems

    def __str__(self) -> str:
        if not self.problems:
            return self.message
        return self.message + "\n" + "\n".join(f"  - {p}" for p in self.problems)


class InputError(MandorlaError):
    """A value outside what is allowed, a path that does not exist, text that is not a number."""

    code = "input"


class ProjectFileError(MandorlaError):
    """A project file that cannot be read or written."""

    code = "project-file"


class LinkedFileError(ProjectFileError):
    """A file with several names (hard links), which replacing would part."""

    code = "project-linked"


class NewerSchemaError(ProjectFileError):
    """A project file written by a newer version."""

    code = "project-newer"


class LogbookError(MandorlaError):
    """A logbook that cannot be opened, read or written."""

    code = "logbook"


class MeshError(MandorlaError):
    """A mesh file that cannot be read, or that is no solid."""

    code = "mesh"


class LibraryDataError(MandorlaError):
    """A row of the material library that is missing or implausible."""

    code = "library"


class SolverError(MandorlaError):
    """A computation that did not converge or met a state outside its model."""

    code = "solver"


class Cancelled(MandorlaError):
    """A long computation was stopped by its owner."""

    code = "cancelled"
