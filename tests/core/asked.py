"""Results of bundles for tests, by key; what several tests look at is computed once a session."""

from __future__ import annotations

from typing import TypeVar

from mandorla.core.measure.compare import Comparison
from mandorla.core.measure.fit import RigFit
from mandorla.core.part.geometry import PartGeometry
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.results import Kept, Results
from mandorla.core.results.verify import sessions_named
from mandorla.core.runtime import RunContext
from mandorla.core.tune.operating_point import Evaluation
from mandorla.core.warp.fe_result import FullRun

T = TypeVar("T")
SHARED = Kept()


def asked(bundle: Bundle, key: Key[T], run: RunContext | None = None) -> T:
    """A result, from those of this session where it is known."""
    return Results(bundle, SHARED).get(key, run)


def geometry_of(bundle: Bundle) -> PartGeometry | None:
    """The part as it stands on the plate."""
    return asked(bundle, keys.GEOMETRY)


def evaluated(bundle: Bundle) -> Evaluation:
    """The quick evaluation."""
    return asked(bundle, keys.EVALUATION)


def simulated(bundle: Bundle, resolution: str = "draft", bodies: str = "one") -> FullRun:
    """A full simulation."""
    return asked(bundle, keys.FULL_RUN.of(resolution=resolution, bodies=bodies))


def compared(bundle: Bundle, session: str | None = None) -> list[Comparison]:
    """The sessions of a project against its rig."""
    return [asked(bundle, keys.COMPARISON.of(session=s.key)) for s in sessions_named(bundle, session)]


def fitted(bundle: Bundle, day: str, unknowns: tuple[str, ...] | None = None) -> RigFit:
    """The rig fitted to all sessions of a project."""
    sessions = tuple(s.key for s in bundle.project.measurements.sessions)
    return asked(bundle, keys.FIT.of(sessions=sessions, day=day, unknowns=unknowns))
