"""A session on a rig as it was then, ready to be marched through the quick model and compared with what was observed."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.measure.models import Measurements, Session
from mandorla.core.measure.observe import (
    Observation,
    observe_logs,
    observe_spots,
    session_rig,
    session_settings,
    spots_of,
)
from mandorla.core.rig.consumers import at_plug
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal.heatup import HeatUp, heat_up, shape_of, time_steps
from mandorla.core.thermal.lateral_conduction import QUADRANT
from mandorla.core.thermal.parameter_samples import ParameterSample, rig_of
from mandorla.core.thermal.stack import Floats
from mandorla.core.thermal.uncertainty_bands import sampled_curves

_DT: Final = 4.0  # s, steps of the march
_COARSE: Final = 12  # cells along half a side of the plate for its shape, which moves the surface by less than 0.1 K


@dataclass(frozen=True, slots=True)
class SessionCase:
    """A session ready to be marched: rig and settings as they were, its heat-up, steps, observations; the surface's drift (K/s)
    below which it counts as ``calm``."""

    name: str
    rig: Rig
    settings: Settings
    heat: HeatUp
    steps: Floats
    observations: tuple[Observation, ...]
    calm: float

    def predict(self, draw: ParameterSample, cells: int = QUADRANT) -> list[Floats]:
        """The model's series (m,) for every observation, with base loads added; a drawn rig has its own shape of the surface, from
        so many ``cells`` along half a side."""
        spread = shape_of(rig_of(self.rig, draw), self.settings, cells)
        curves = sampled_curves(self.rig, self.settings, spread, draw, self.steps)
        time = np.concatenate([[0.0], np.cumsum(self.steps)])
        found = []
        for o in self.observations:
            curve = at_plug(self.rig, curves["power"], curves["chamber power"]) if o.role == "power" else curves[o.role]
            seen = _mean_over(time, curve, o.time) if o.averaged else np.asarray(np.interp(o.time, time, curve))
            if o.role == "surface":
                air = np.interp(o.time, time, curves["air"])
                theta = float(spread.at(np.array([[o.x, o.y]]))[0])
                seen = air + (seen - air) * theta
            found.append(seen + o.floor)
        return found


def _mean_over(time: Floats, curve: Floats, middles: Floats) -> Floats:
    """Mean (m,) of a curve over intervals that lie about ``middles``."""
    if middles.size < 2:
        return np.asarray(np.interp(middles, time, curve))
    area = np.concatenate([[0.0], np.cumsum(0.5 * (curve[1:] + curve[:-1]) * np.diff(time))])
    ends = [1.5 * middles[0] - 0.5 * middles[1]], [1.5 * middles[-1] - 0.5 * middles[-2]]
    edge = np.concatenate([ends[0], 0.5 * (middles[1:] + middles[:-1]), ends[1]])
    edge = np.clip(edge, 0.0, time[-1])
    total = np.interp(edge, time, area)
    return np.asarray(np.diff(total) / np.maximum(np.diff(edge), 1e-9))


def curves_of(scenes: Sequence[SessionCase], sample: ParameterSample) -> list[Floats]:
    """The model's series of all sessions for one sample of the rig, for a search that asks for hundreds: its shape is coarse."""
    return [curve for scene in scenes for curve in scene.predict(sample, _COARSE)]


def session_case_of(
    rig: Rig,
    settings: Settings,
    criteria: Criteria,
    session: Session,
    measurements: Measurements,
    originals: Mapping[str, bytes],
) -> SessionCase:
    """A session as something to compare with. Raises :class:`InputError` when nothing in it can be compared."""
    then, put = session_rig(rig, session), session_settings(settings, session)
    observations = observe_logs(rig, session, measurements, originals) + observe_spots(
        spots_of(session, measurements, rig)
    )
    if not observations:
        raise InputError(f"“{session.name}” holds no reading or log that could be compared with the model.")
    last = max(float(o.time[-1]) for o in observations)
    horizon = float(np.clip(last, 120.0, 12 * 3600.0))
    heat = heat_up(then, put, criteria, with_bands=False)
    return SessionCase(session.name, then, put, heat, time_steps(horizon, _DT), observations, criteria.ready_drift)
