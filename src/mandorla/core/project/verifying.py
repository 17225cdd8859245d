"""Sessions of a project compared and fitted, with the originals that the project file carries."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from mandorla.core.errors import InputError
from mandorla.core.measure.compare import Comparison, compare
from mandorla.core.measure.fit import RigFit, fit_rig
from mandorla.core.measure.log_guess import propose
from mandorla.core.measure.models import Measurements, Session, StoredLog
from mandorla.core.project.store import Bundle
from mandorla.core.runtime import RunContext
from mandorla.core.units import METRIC, UnitPreferences


def sessions_named(measurements: Measurements, name: str | None) -> tuple[Session, ...]:
    """All sessions, or the one of a name. Raises :class:`InputError` naming those that exist."""
    if name is None:
        return measurements.sessions
    found = tuple(s for s in measurements.sessions if s.name == name)
    if not found:
        known = ", ".join(f"“{s.name}”" for s in measurements.sessions) or "none"
        raise InputError(f"There is no session “{name}”; there are: {known}.")
    return found


def compare_sessions(bundle: Bundle, name: str | None = None) -> list[Comparison]:
    """Compare sessions with the rig's prediction. Raises :class:`InputError` when there are none."""
    project = bundle.project
    sessions = sessions_named(project.measurements, name)
    if not sessions:
        raise InputError("The project holds no measuring session.")
    return [
        compare(project.rig, project.settings, project.criteria, s, project.measurements, bundle.originals)
        for s in sessions
    ]


def fit_bundle(
    bundle: Bundle, name: str | None, logs: Sequence[Path], unknowns: Sequence[str], day: str, run: RunContext | None = None,
    prefs: UnitPreferences = METRIC,
) -> tuple[RigFit, list[str]]:  # fmt: skip
    """Fit the project's rig to its sessions, or to log files given with it (at the project's settings, in its room).

    Returns the fit and the names of what it used. Raises :class:`InputError`.
    """
    project = bundle.project
    sessions = list(sessions_named(project.measurements, name)) if not logs or name is not None else []
    originals = dict(bundle.originals)
    for path in logs:
        try:
            data = path.read_bytes()
        except OSError as error:
            raise InputError(f"“{path}” cannot be read: {error.strerror}.") from error
        originals[path.name] = data
        stored = StoredLog(name=path.stem[:80], file=path.name[:120], mapping=propose(data, path.name))
        sessions.append(
            Session(
                name=path.stem[:60], date=day, bed=project.settings.bed_first, chamber=project.settings.chamber,
                room=project.rig.start_temperature, logs=(stored,),
            )
        )  # fmt: skip
    fit = fit_rig(
        project.rig, project.settings, project.criteria, sessions, project.measurements, originals, day, unknowns or None, run,
        prefs,
    )  # fmt: skip
    return fit, [s.name for s in sessions]
