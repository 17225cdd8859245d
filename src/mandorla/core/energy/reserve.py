"""Running a job on a battery or a generator: whether it ends, and when it stops."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.energy.course import PlugCourse
from mandorla.core.rig.backup import Backup
from mandorla.core.rig.consumers import Doing
from mandorla.core.rig.settings import Settings

# °C and the share of its capacity that a battery gives there: orders of magnitude from makers' curves, unchecked
COLD: Final = {
    "lithium": ((-20.0, 0.55), (-10.0, 0.72), (0.0, 0.86), (10.0, 0.95), (25.0, 1.0), (60.0, 1.0)),
    "lead": ((-20.0, 0.45), (-10.0, 0.60), (0.0, 0.75), (10.0, 0.87), (25.0, 1.0), (60.0, 1.0)),
}


@dataclass(frozen=True, slots=True)
class BackupRun:
    """A job on a backup: J that it ``holds`` at the plug's side of the battery, W and J ``asked`` of it; ``stops`` s after
    switching on (infinite: it lasts), ``overloaded`` where more is asked than it gives; J that are ``left``; ``doing`` when it
    stops."""

    holds: float
    asked: float
    peak: float
    stops: float
    overloaded: bool
    left: float
    doing: Doing | None

    @property
    def lasts(self) -> bool:
        """Whether the print ends."""
        return not self.overloaded and not np.isfinite(self.stops)


class OnBackup(NamedTuple):
    """A way to run the job on the backup: ``name`` and settings, what the backup does, the chance that anything fails
    (``simulated``: by a full run)."""

    name: str
    settings: Settings
    run: BackupRun
    chance: float
    simulated: bool = False


def held_by(backup: Backup) -> float:
    """J that can be taken out of it: usable, and as cold as it stands."""
    if backup.kind == "generator":
        return backup.capacity * backup.usable
    at, share = np.array(COLD[backup.chemistry]).T
    return float(backup.capacity * backup.usable * np.interp(backup.temperature - 273.15, at, share))


def on_backup(course: PlugCourse, backup: Backup) -> BackupRun:
    """Take a job's course from a backup, from switching on or from the first layer, to the end of the print."""
    ends = dict(course.phases)
    last = ends[Doing.PRINT]
    first = 0.0 if backup.takes_over == "start" else max(ends.get(Doing.SOAK, 0.0), ends.get(Doing.WARM_UP, 0.0))
    inside = (course.ends > first + 1e-6) & (course.ends <= last + 1e-6)
    steps, power = course.steps[inside], course.power[inside]
    taken = np.cumsum((power / backup.efficiency + backup.own) * steps)
    holds, peak = held_by(backup), float(power.max())
    short = np.flatnonzero(taken > holds)
    stops, doing = float("inf"), None
    if short.size:
        k = int(short[0])
        rate = power[k] / backup.efficiency + backup.own
        stops = float(course.ends[inside][k] - (taken[k] - holds) / rate)
        doing = next(d for d, end in course.phases if stops <= end + 1e-6)
    return BackupRun(holds, float(taken[-1]), peak, stops, peak > backup.most, holds - float(taken[-1]), doing)
