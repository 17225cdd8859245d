"""What may go wrong with a machine while it is watched: one entry a disturbance, with what it changes, its words, and the sizes at
which it is looked for. The simulated machine breaks by the same entries."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Final, NamedTuple

from mandorla.core.rig.model import Rig
from mandorla.core.thermal.faults import FAULTS, LOOSE_SENSOR


class Condition(NamedTuple):
    """What is different from a sound machine; neutral where nothing is said.

    ``duty`` forces the bed's heater (negative: it does as it is asked), ``power`` and ``chamber_power`` are the shares of what is
    asked for that the heaters give, ``seen`` the share of its place that the bed's sensor feels, ``gap`` m²K/W that opens between
    heater and plate, ``shift`` K and ``drift`` K/s by which the sensor reads too much, ``frozen`` whether it stands still, ``door``
    the share that stands open, ``blows`` m/s over an open bed, ``dark`` whether all power is gone, ``lowered`` K that the bed's
    target is taken down by."""

    duty: float = -1.0
    power: float = 1.0
    chamber_power: float = 1.0
    seen: float = 1.0
    gap: float = 0.0
    shift: float = 0.0
    drift: float = 0.0
    frozen: bool = False
    door: float = 0.0
    blows: float = 0.0
    dark: bool = False
    lowered: float = 0.0


SOUND: Final = Condition()
SURROUNDS: Final = ("duty", "power", "chamber_power", "door", "blows")  # what a watch can go on with, knowing of it


def both(a: Condition, b: Condition) -> Condition:
    """Two conditions at once: what ``b`` changes goes before what ``a`` does."""
    return a._replace(**{n: v for n, v in b._asdict().items() if v != getattr(SOUND, n)})


@dataclass(frozen=True, slots=True)
class Disturbance:
    """One thing that goes wrong: stable ``key``, ``name``, what it does in words, what to do, whether it is ``dangerous``, the
    ``kind`` of unit of its size, the sizes at which it is looked for and the range (low, high) from which simulated ones are
    drawn; ``within`` s the delay that is asked of its detection. ``told`` disturbances are told by the machine itself; ``often`` is
    how much more often than others it happens (nats; practice, unchecked)."""

    key: str
    name: str
    what: str
    advice: str
    dangerous: bool
    kind: str
    sizes: tuple[float, ...]
    drawn: tuple[float, float]
    within: float
    told: bool
    often: float
    happens_on: Callable[[Rig], bool]
    condition: Callable[[float], Condition]

    @property
    def leaves_a_share(self) -> bool:
        """Whether its size is the share that is left."""
        return self.key in _SHARES

    def magnitude(self, size: float) -> float:
        """How far a size is from nothing: what is missing of a share, else its amount."""
        return 1.0 - size if self.leaves_a_share else abs(size)

    def sized(self, magnitude: float, like: float) -> float:
        """The size of a magnitude, with the sign of another size."""
        return 1.0 - magnitude if self.leaves_a_share else math.copysign(magnitude, like)

    @property
    def magnitudes(self) -> tuple[float, float]:
        """The least and the greatest magnitude that it is taken for."""
        ends = sorted(self.magnitude(v) for v in self.drawn)
        most = min(1.0, _MORE * ends[1]) if self.leaves_a_share or self.kind == "fraction" else _MORE * ends[1]
        return ends[0] / _MORE, most


_SHARES: Final = ("sensor-loose", "heater-broken", "supply-low", "chamber-heater")  # sizes are what is left
_MORE: Final = 1.3  # times beyond what is drawn, that a size is still taken for
DISTURBANCES: Final[dict[str, Disturbance]] = {}
_SWITCH_OFF: Final = "Switch the machine off at the plug now."
_NOT_ALONE: Final = "Do not rely on software: a thermal fuse and a smoke alarm do what it cannot."


def _anywhere(_: Rig) -> bool:
    return True


def _enclosed(rig: Rig) -> bool:
    return rig.chamber.enclosed


def _open(rig: Rig) -> bool:
    return not rig.chamber.enclosed


def _joined(rig: Rig) -> bool:
    return rig.bed.layer_index(rig.bed.heater.layer) > 0


def disturbance(
    key: str, name: str, what: str, advice: str, *, sizes: tuple[float, ...], drawn: tuple[float, float], kind: str,
    dangerous: bool = False, within: float = 300.0, told: bool = False, often: float = 0.0,
    happens_on: Callable[[Rig], bool] = _anywhere,
) -> Callable[[Callable[[float], Condition]], Callable[[float], Condition]]:  # fmt: skip
    """Register what a disturbance of a size changes under its key."""

    def register(condition: Callable[[float], Condition]) -> Callable[[float], Condition]:
        DISTURBANCES[key] = Disturbance(
            key, name, what, advice, dangerous, kind, sizes, drawn, within, told, often, happens_on, condition
        )
        return condition

    return register


@disturbance(
    "relay-on", FAULTS["relay-on"].name, "The bed's heater draws power that nobody asks for.",
    f"{_SWITCH_OFF} Replace the relay before it is heated again. {_NOT_ALONE}",
    sizes=(1.0,), drawn=(1.0, 1.0), kind="fraction", dangerous=True, within=60.0,
)  # fmt: skip
def _relay_on(_: float) -> Condition:
    return Condition(duty=1.0)


@disturbance(
    "mat-loose", FAULTS["mat-loose"].name, "Heat no longer comes from the mat to the plate: the mat itself runs hot.",
    f"{_SWITCH_OFF} Look at the mat from below when it is cold; do not press it back and go on. {_NOT_ALONE}",
    sizes=(0.004, 0.02), drawn=(0.006, 0.04), kind="contact_resistance", dangerous=True, within=60.0, happens_on=_joined,
)  # fmt: skip
def _mat_loose(size: float) -> Condition:
    return Condition(gap=size)


@disturbance(
    "sensor-loose", FAULTS["sensor-loose"].name,
    "The bed's sensor feels the air more than the plate: the plate is hotter than it reads.",
    f"{_SWITCH_OFF} Clamp the sensor mechanically. {_NOT_ALONE}",
    sizes=(LOOSE_SENSOR, 0.65, 0.85), drawn=(0.2, 0.8), kind="fraction", dangerous=True, within=60.0,
)  # fmt: skip
def _sensor_loose(size: float) -> Condition:
    return Condition(seen=size)


@disturbance(
    "sensor-jump", "Sensor reading jumped", "The reading changed faster than any plate can: a contact or a wire.",
    f"Stop the print and look at the sensor's wires and plug; the plate is not at its set point. {_NOT_ALONE}",
    sizes=(-18.0, -7.0, 7.0, 18.0), drawn=(3.0, 25.0), kind="temperature_difference", dangerous=True, within=60.0,
)  # fmt: skip
def _sensor_jump(size: float) -> Condition:
    return Condition(shift=size)


@disturbance(
    "sensor-frozen", "Sensor reading frozen", "The reading stands still while the heater works.",
    f"{_SWITCH_OFF} A frozen reading cannot stop a heater. {_NOT_ALONE}",
    sizes=(1.0,), drawn=(1.0, 1.0), kind="fraction", dangerous=True, within=60.0,
)  # fmt: skip
def _sensor_frozen(_: float) -> Condition:
    return Condition(frozen=True)


@disturbance(
    "sensor-drift", "Sensor drifting away", "The sensor reads less and less right: the plate's true temperature runs away from it.",
    "Check the plate with a second thermometer; replace the sensor before the next print.",
    sizes=(-3.0 / 60, -0.8 / 60, 0.8 / 60, 3.0 / 60), drawn=(0.4 / 60, 4.0 / 60), kind="drift",
)  # fmt: skip
def _sensor_drift(size: float) -> Condition:
    return Condition(drift=size)


@disturbance(
    "heater-broken", "Heater element broken", "The bed's heater, or one circuit of it, gives nothing.",
    "Let it cool and measure the heater's resistance; an electrician for a mains bed. The part comes loose as the plate cools.",
    sizes=(0.0, 0.3, 0.5), drawn=(0.0, 0.55), kind="fraction",
)  # fmt: skip
def _heater_broken(size: float) -> Condition:
    return Condition(power=size)


@disturbance(
    "supply-low", "Supply low", "The bed's heater gives less than it is asked for: voltage down, a supply at its end, a hot plug.",
    "Feel no plug with the hand: look for discoloured ones, measure the voltage under load; take other loads off the circuit.",
    sizes=(0.75, 0.88), drawn=(0.7, 0.9), kind="fraction",
)  # fmt: skip
def _supply_low(size: float) -> Condition:
    return Condition(power=size)


@disturbance(
    "door-open", FAULTS["door-open"].name, "Room air flows in: the chamber falls, the part's corners first.",
    "Shut the door or the lid. What has cooled by more than some kelvin may lift within minutes.",
    sizes=(0.3, 1.0), drawn=(0.25, 1.0), kind="fraction", often=2.0, happens_on=_enclosed,
)  # fmt: skip
def _door_open(size: float) -> Condition:
    return Condition(door=size)


@disturbance(
    "draught", "Draught on the bed", "Moving air takes more heat from plate and part.",
    "Shut windows and doors of the room, turn fans and air conditioners away, put a screen round the machine.",
    sizes=(0.8, 2.0), drawn=(0.7, 2.5), kind="air_speed", often=4.0, happens_on=_open,
)  # fmt: skip
def _draught(size: float) -> Condition:
    return Condition(blows=size)


@disturbance(
    "chamber-heater", "Chamber heater dead", "The chamber's heater gives nothing: its cut-out, its fan, its fuse.",
    "Let nothing reset itself: find out why its cut-out opened before it is switched on again.",
    sizes=(0.0, 0.3), drawn=(0.0, 0.3), kind="fraction", happens_on=lambda rig: rig.heats_chamber,
)  # fmt: skip
def _chamber_heater(size: float) -> Condition:
    return Condition(chamber_power=size)


@disturbance(
    "power-cut", FAULTS["power-cut"].name,
    "The machine does not answer: it is without power, or its cable is off. It will not heat by itself.",
    "Keep the chamber shut. See Power cut for how long this part holds on, before anything is heated again.",
    sizes=(60.0,), drawn=(20.0, 1200.0), kind="duration", told=True, within=60.0,
)  # fmt: skip
def _power_cut(_: float) -> Condition:
    return Condition(dark=True)


@disturbance(
    "target-lowered", "Target lowered", "Somebody or something has set the bed to another temperature than planned.",
    "Ask who did it, and set it back if it was not meant.",
    sizes=(10.0,), drawn=(3.0, 40.0), kind="temperature_difference", told=True, within=60.0,
)  # fmt: skip
def _target_lowered(size: float) -> Condition:
    return Condition(lowered=size)


def of_rig(rig: Rig) -> tuple[Disturbance, ...]:
    """Everything that can go wrong on a rig, in the order of the registry."""
    return tuple(d for d in DISTURBANCES.values() if d.happens_on(rig))
