"""What is known of the gap that the first layer is printed in: nozzle, plate, seat, what the machine makes up for."""

from __future__ import annotations

from typing import Final, Literal

from pydantic import Field

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity

Seat = Literal["flat", "front left", "front right", "rear left", "rear right"]
SEATS: Final[dict[Seat, str]] = {
    "flat": "Flat on its seat",
    "front left": "Front left corner on a stop or debris",
    "front right": "Front right corner on a stop or debris",
    "rear left": "Rear left corner on a stop or debris",
    "rear right": "Rear right corner on a stop or debris",
}


class ProbedMap(Model):
    """A height map of the plate among the originals, as it was imported in a session: the state that it was taken in, and the
    size (m) that it spans about the bed's middle."""

    name: str = Field(min_length=1, max_length=80, title="Name")
    map: str = Field(min_length=1, max_length=120)
    state: Literal["cold", "warm", "soaked", "levelled"] = Field(default="cold", title="Taken")
    unit: Literal["mm", "µm", "in"] = "mm"
    width: float = quantity("large_length", 0.01, 3.0, "Spans, across", default=0.2)
    depth: float = quantity("large_length", 0.01, 3.0, "Spans, deep", default=0.2)
    rear_first: bool = Field(default=True, title="First row is the rear")


class FirstLayer(Model):
    """The gap of the first layer; ``offset`` is how much farther than meant the nozzle stands in the middle of the bed, where
    it is homed; ``growth`` how much nearer heat brings it after that; ``tip_lower`` how far one side of a worn or tilted tip
    reaches below the other; ``compensated`` the share of its own map that the machine makes up for."""

    height: float | None = quantity("length", 0.00005, 0.002, "Height of the first layer", default=None)
    offset: float = quantity("length", -0.001, 0.001, "Nozzle too far by", default=0.0)
    offset_within: float = quantity("length", 0.001e-3, 0.0005, "Known to within ±", default=0.00003)
    growth: float = quantity("length", -0.0005, 0.0005, "Heat brings it nearer by", default=0.0)
    tip_lower: float = quantity("length", 0.0, 0.0005, "Tip lower on one side by", default=0.0)
    probed: ProbedMap | None = None
    compensated: float = quantity("fraction", 0.0, 1.0, "The machine follows its map by", default=0.0)
    seat: Seat = Field(default="flat", title="Plate lies")
    seat_height: float = quantity("length", 0.0, 0.005, "Raised there by", default=0.0)
