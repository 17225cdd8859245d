"""How the machine stands when it is switched on for a job: cold, or with what the job before left in it."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity
from mandorla.core.units import OFF

COLD, WARM, SWAPPED, FRAME_COLD = "cold", "warm", "swapped", "frame"


class Start(Model):
    """The machine at the start of a job.

    ``warm``: a job at ``bed`` and ``chamber`` (set points in K) has ended ``since`` s ago; ``swapped``: a plate at room
    temperature was then laid on the bed; ``frame``: bed and air are warm as if held there, frame and walls are still cold.
    ``held``: the heaters stay on in between. ``door_open`` (s of the time in between)."""

    kind: Literal["cold", "warm", "swapped", "frame"] = Field(default="cold", title="The machine starts")
    bed: float = quantity("set_point", OFF, 650.0, "Its bed", default=333.15)
    chamber: float = quantity("temperature", 288.15, 550.0, "Its chamber", default=318.15)
    since: float = quantity("duration", 0.0, 86400.0, "Since the last job", default=600.0)
    held: bool = Field(default=False, title="Heaters stay on in between")
    door_open: float = quantity("duration", 0.0, 86400.0, "Door open for", default=120.0)
