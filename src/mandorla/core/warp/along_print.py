"""What a print meets on its way, as departures from its mean temperatures: plate, air, and what blows on it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from mandorla.core.part.mesh import Floats
from mandorla.core.thermal.print_course import means_between


@dataclass(frozen=True, slots=True)
class AlongPrint:
    """Curves (m,) over the ``time`` (s) since the first layer: ``plate`` and ``air`` in K over their means while the rest is
    printed, ``blows`` m/s over the part."""

    time: Floats
    plate: Floats
    air: Floats
    blows: Floats

    def over(self, curve: Floats, times: Floats) -> Floats:
        """Means (n,) of a curve while each of the blocks is printed that take ``times`` (n,) s one after the other."""
        return means_between(self.time, curve, np.concatenate([[0.0], np.cumsum(times)]))

    def draft(self, times: Floats) -> Floats:
        """Speed (n,) in m/s that takes the heat of what blows at times: forced convection goes with its root."""
        return np.asarray(self.over(np.sqrt(self.blows), times) ** 2)
