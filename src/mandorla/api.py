"""Mandorla as a library: open a project, change it by path, ask for results by key.

>>> import mandorla
>>> study = mandorla.demo()
>>> study["settings.bed_rest"]
367.15
>>> warmer = study.with_values({"settings.bed_rest": "102 °C", "settings.chamber": "66 °C"})
>>> warmer.judgement().whole.value  # doctest: +SKIP
'holds'

Values are SI and kelvin. A study never changes: every edit gives another one. Results are those of the window and the command line,
computed when they are first asked for and kept.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mandorla.core.errors import InputError, MandorlaError, Problem
from mandorla.core.failure.words import headline
from mandorla.core.input_file import bytes_of
from mandorla.core.logbook.place import default_path
from mandorla.core.part.mesh import UNITS
from mandorla.core.project.models import Project
from mandorla.core.project.paths import get_value, parse_at, set_value
from mandorla.core.project.samples import SAMPLES, sample
from mandorla.core.project.store import Bundle, read_bundle, write_bundle
from mandorla.core.results import keys
from mandorla.core.results.explained_words import card_text
from mandorla.core.results.key import Key
from mandorla.core.results.results import Results
from mandorla.core.runtime import RunContext
from mandorla.core.units import METRIC, UnitPreferences

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from mandorla.core.logbook.learning import Experience
    from mandorla.core.results.types import Card, Evaluation, FullRun, Judgement

__all__ = ["MandorlaError", "Study", "begin", "demo", "open_project", "result_keys"]


def result_keys() -> Mapping[str, Key[Any]]:
    """Every result that can be asked for, by name; its parameters with their defaults stand in ``key.parameters``."""
    found = {value.name: value for value in vars(keys).values() if isinstance(value, Key)}
    return dict(sorted(found.items()))


def open_project(path: str | Path, logbook: str | Path | None = None) -> Study:
    """A study of a project file; ``logbook`` as with :class:`Study`.

    Raises
    ------
    MandorlaError
        A file that cannot be read, with the line and the reason.
    """
    return Study(read_bundle(Path(path)), logbook)


def demo(name: str = "boathouse") -> Study:
    """A study of the demo workshop: ``boathouse``, ``kiln`` or ``windowsill``. Raises InputError for another name."""
    if name not in SAMPLES:
        raise InputError(f"There is no demo “{name}”: {', '.join(sorted(SAMPLES))}.")
    return Study(sample(name))


def begin(machine: Mapping[str, Any], polymer: str, part: str | Path | None = None, part_unit: str = "mm") -> Study:
    """A study of a machine from a few facts, as ``mandorla new`` makes it.

    Parameters
    ----------
    machine
        Facts by name, SI: ``kind``, ``width``, ``depth``, ``heater`` …; what is not given is assumed by kind and size.
    polymer
        Key of the polymer.
    part, part_unit
        A mesh file, and the unit its figures are in.

    Raises
    ------
    InputError
        Facts that make no machine, a polymer that is not in the library, a mesh that cannot be read.
    """
    from mandorla.core.project.begin import begun_project  # loads the numerics
    from mandorla.core.project.facts import facts_of

    if part_unit not in UNITS:
        raise InputError(f"“{part_unit}” is none of {', '.join(UNITS)}.")
    source = None
    if part is not None:
        path = Path(part)
        source = (path.name, bytes_of(path), UNITS[part_unit])
    return Study(begun_project(facts_of(dict(machine)), polymer, source))


def _taught(project: Project, logbook: Path | None) -> Experience | None:
    if logbook is None and not default_path().exists():
        return None
    from mandorla.core.logbook.workshop import taught  # loads the numerics

    return taught(project.criteria.from_prints, logbook)


class Study:
    """A project with its results.

    Parameters
    ----------
    bundle
        The project and the files that it refers to.
    logbook
        The book whose prints it is predicted by; by default the workshop's own where there is one, as in the window and on the
        command line. A project says in ``criteria.from_prints`` whether it wants them.

    Raises
    ------
    MandorlaError
        A project that lacks a file, a logbook that is not there or cannot be read.
    """

    def __init__(self, bundle: Bundle, logbook: str | Path | None = None) -> None:
        bundle.check_originals()
        self._logbook = Path(logbook) if logbook is not None else None
        self._results = Results(bundle, None, _taught(bundle.project, self._logbook))

    @property
    def project(self) -> Project:
        """The project: a frozen, validated value."""
        return self._results.bundle.project

    @property
    def bundle(self) -> Bundle:
        """The project with the files that it refers to."""
        return self._results.bundle

    def __repr__(self) -> str:
        p = self.project
        return f"<Study “{p.name}”: {p.part.name if p.part else 'no part'} on {p.rig.name}>"

    # ---- values
    def __getitem__(self, path: str) -> Any:
        """The value of a field by its path, SI. Raises InputError naming what exists there."""
        return get_value(self.project, path)

    def with_values(self, values: Mapping[str, Any]) -> Study:
        """Another study with fields changed.

        Parameters
        ----------
        values
            Values by path: SI, or text with a unit (``"66 °C"``).

        Raises
        ------
        InputError
            Every value that is refused, with its place and what is allowed there.
        """
        project, problems = self.project, list[Problem]()
        for path, value in values.items():
            try:
                new = parse_at(project, path, value, si=True) if isinstance(value, str) else value
                project = set_value(project, path, new)
            except InputError as error:
                problems += error.problems or (Problem(path, repr(value)[:80], error.message),)
        if problems:
            raise InputError("Values were refused.", problems=tuple(problems))
        return Study(Bundle(project, self.bundle.originals), self._logbook)

    def save(self, path: str | Path) -> None:
        """Write the project file, whole or not at all. Raises ProjectFileError."""
        write_bundle(Path(path), self.bundle)

    # ---- results
    def result(self, name: str, run: RunContext | None = None, **parameters: Any) -> Any:
        """A result by its name (:func:`result_keys`), computed now where it is not known.

        Parameters
        ----------
        name
            For instance ``evaluation``, ``heat_up``, ``window``, ``full_run``.
        run
            Reports progress and stops when asked to.
        parameters
            Of the result, for instance ``resolution="draft"``.

        Raises
        ------
        InputError
            A name or a parameter that does not exist.
        MandorlaError
            What the computation refuses.
        """
        known = result_keys()
        if name not in known:
            raise InputError(f"There is no result “{name}”: {', '.join(known)}.")
        key = known[name]
        strange = sorted(set(parameters) - {k for k, _ in key.parameters})
        if strange:
            given = ", ".join(k for k, _ in key.parameters) or "none"
            raise InputError(f"“{name}” has no parameter {', '.join(strange)}; it has: {given}.")
        return self._results.get(key.of(**parameters) if parameters else key, run)

    def evaluation(self) -> Evaluation:
        """Everything the quick models say of the present settings."""
        return self._results.get(keys.EVALUATION)

    def full_run(self, resolution: str = "draft", bodies: str = "all", run: RunContext | None = None) -> FullRun:
        """The full simulation; the judgement follows it from then on. Raises InputError without a part."""
        found = self._results.get(keys.FULL_RUN.of(resolution=resolution, bodies=bodies), run)
        return found

    def judgement(self) -> Judgement:
        """Every way to fail with its margin and chance: by the finest full simulation that was run, else by the quick models."""
        return self._results.get(self._results.judgement_key())

    def headline(self, units: UnitPreferences = METRIC) -> str:
        """What fails first and with what chance, in a sentence."""
        return headline(self.judgement(), units)

    def explain(self, figure: str) -> Card:
        """Where a figure comes from. Raises InputError for a key that is none."""
        judged = self._results.judgement_key()
        return self._results.get(keys.EXPLAINED.of(figure=figure, full=judged["full"], bodies=judged["bodies"]))

    def explained(self, figure: str, units: UnitPreferences = METRIC) -> str:
        """The same as text. Raises InputError for a key that is none."""
        return card_text(self.explain(figure), units, self.project.criteria.currency)

    def report(self, path: str | Path, *, check: bool = True, units: UnitPreferences = METRIC) -> None:
        """Write the report as PDF or HTML. Raises InputError without a part, ProjectFileError where it cannot be written."""
        from mandorla.core.report.write import write_report  # the document library loads late: it takes a second

        write_report(Path(path), self._results, units, check)

    def curves(self) -> dict[str, NDArray[np.float64]]:
        """The heat-up as arrays (m,) for plotting: ``time`` s, ``surface``, ``reading``, ``air``, ``frame`` K, ``power`` W."""
        heat = self._results.get(keys.HEAT_UP)
        names = ("time", "surface", "reading", "air", "frame", "power", "chamber_power")
        return {name: getattr(heat, name) for name in names}

    def _repr_html_(self) -> str:
        """What a notebook shows: the answer, and how the settings stand."""
        from html import escape

        text = self.headline() if self.project.part is not None else "No part yet."
        return f"<b>{escape(self.project.name)}</b><br>{escape(text)}"
