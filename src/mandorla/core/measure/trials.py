"""Trials that a workshop can do by itself to learn film stress, a magnet's pull and the grip of a side, as data. SI and kelvin."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Final, Literal

from pydantic import Field, field_validator

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity

TRIAL_KINDS: Final = {"strip": "Strip on steel", "pull": "Spring scale", "feeler": "Feeler under the sheet",
    "coupon": "Pull-off coupons"}  # fmt: skip


def iso_day(text: str) -> str:
    """A day as ISO text; refuses others."""
    date.fromisoformat(text)
    return text


class _Trial(Model):
    """What every trial has: a stable key, a name, its day, whether its result is used, a note."""

    key: str = Field(min_length=1, max_length=40)
    name: str = Field(min_length=1, max_length=60, title="Name")
    date: str = Field(min_length=10, max_length=10, title="Date")
    used: bool = Field(default=True, title="Use it in the predictions")
    note: str = Field(default="", max_length=400, title="Note")

    _day = field_validator("date")(iso_day)


class BowReading(Model):
    """The bow of a freed strip after it has stood at a temperature: how far its ends stand above its middle (m)."""

    temperature: float = quantity("temperature", 230.0, 500.0, "Plate and air at")
    bow: float = quantity("length", -0.2, 0.2, "Bow")


class StripTrial(_Trial):
    """A strip printed on a thin steel strip that is clamped while it prints, then freed; its bow is read while it cools step by
    step."""

    kind: Literal["strip"] = "strip"
    polymer: str = Field(min_length=1, max_length=60, title="Polymer")
    length: float = quantity("large_length", 0.05, 1.0, "Length", default=0.2)
    width: float = quantity("length", 0.005, 0.1, "Width", default=0.02)
    thickness: float = quantity("length", 0.0002, 0.01, "Printed thickness", default=0.0012)
    steel: float = quantity("length", 0.0001, 0.003, "Steel thickness", default=0.0006)
    layer_height: float = quantity("length", 5e-5, 0.001, "Layer height", default=0.0002)
    layer_time: float = quantity("duration", 5.0, 3600.0, "Time of a layer", default=60.0)
    plate: float = quantity("temperature", 280.0, 500.0, "Printed at a surface of")
    chamber: float = quantity("temperature", 250.0, 450.0, "Chamber while printing", default=295.15)
    wait: float = quantity("duration", 60.0, 86400.0, "Time at each temperature", default=900.0)
    accuracy: float = quantity("length", 1e-5, 0.01, "Bow read within ±", default=0.0003)
    readings: tuple[BowReading, ...] = Field(default=(), max_length=40)


class PullReading(Model):
    """Force at which a coupon comes off its magnet over a gap of shims."""

    gap: float = quantity("length", 0.0, 0.02, "Gap")
    force: float = quantity("force", 0.01, 5000.0, "Force")


class PullTrial(_Trial):
    """A coupon of the plate's sheet pulled straight off the magnet with a spring scale, over shims of known thickness."""

    kind: Literal["pull"] = "pull"
    width: float = quantity("length", 0.005, 0.3, "Coupon, width", default=0.05)
    depth: float = quantity("length", 0.005, 0.3, "Coupon, depth", default=0.05)
    accuracy: float = quantity("force", 0.01, 100.0, "Scale reads within ±", default=0.5)
    readings: tuple[PullReading, ...] = Field(default=(), max_length=40)


class FeelerReading(Model):
    """The gap under the sheet's corner when the part has reached a height."""

    height: float = quantity("large_length", 0.0005, 2.0, "Height printed")
    gap: float = quantity("length", 0.0, 0.05, "Gap at the corner")


class FeelerTrial(_Trial):
    """A feeler under the corner of the loose sheet while the project's part prints on it."""

    kind: Literal["feeler"] = "feeler"
    plate: float = quantity("temperature", 280.0, 500.0, "Surface of the plate")
    chamber: float = quantity("temperature", 250.0, 450.0, "Chamber while printing", default=295.15)
    fan: float = quantity("fraction", 0.0, 1.0, "Part fan", default=0.0)
    accuracy: float = quantity("length", 1e-6, 0.001, "Gap read within ±", default=3e-5)
    readings: tuple[FeelerReading, ...] = Field(default=(), max_length=40)


class CouponReading(Model):
    """A coupon pulled off at a plate temperature: its force, and whether its leg ``torn`` before it came off."""

    temperature: float = quantity("temperature", 250.0, 600.0, "Plate at")
    force: float = quantity("force", 0.01, 5000.0, "Force")
    torn: bool = Field(default=False, title="Its leg tore")


class CouponTrial(_Trial):
    """Small coupons printed on a side and pulled straight off with a spring scale at several plate temperatures; ``on_plate``
    is the key of a plate of one's own (empty: any of that surface)."""

    kind: Literal["coupon"] = "coupon"
    polymer: str = Field(min_length=1, max_length=60, title="Polymer")
    on_plate: str = Field(default="", max_length=60, title="Plate")
    on_side: Literal["front", "back"] = Field(default="front", title="Side")
    surface: str = Field(min_length=1, max_length=60, title="Surface")
    coating: str = Field(default="", max_length=60, title="Coating")
    width: float = quantity("length", 0.002, 0.1, "Coupon, width", default=0.01)
    depth: float = quantity("length", 0.002, 0.1, "Coupon, depth", default=0.01)
    accuracy: float = quantity("force", 0.01, 100.0, "Scale reads within ±", default=1.0)
    readings: tuple[CouponReading, ...] = Field(default=(), max_length=40)


Trial = Annotated[StripTrial | PullTrial | FeelerTrial | CouponTrial, Field(discriminator="kind")]
