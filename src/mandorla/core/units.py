"""Conversions at the edges: SI and kelvin inside, the user's units outside.

A *kind* names what a number is (``temperature``, ``length`` …); it decides the unit it is shown in, how many digits it
deserves and which unit names are understood when it is typed.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, Final, overload

from mandorla.core.decimal_sign import with_comma
from mandorla.core.errors import InputError, Problem

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

ZERO_CELSIUS: Final = 273.15


@dataclass(frozen=True, slots=True)
class Unit:
    """A display unit: ``shown = si * scale + offset``."""

    symbol: str
    scale: float
    offset: float = 0.0
    digits: int = 2

    @overload
    def from_si(self, value: float) -> float: ...
    @overload
    def from_si(self, value: NDArray[np.float64]) -> NDArray[np.float64]: ...
    def from_si(self, value: float | NDArray[np.float64]) -> float | NDArray[np.float64]:
        """An SI value, or an array of them, in this unit."""
        return value * self.scale + self.offset

    def to_si(self, shown: float) -> float:
        """A value in this unit as SI."""
        return (shown - self.offset) / self.scale


OFF: Final = 273.15  # K, a set point that switches a heater off
_OFF_WORD: Final = "off"

# The first unit of each kind is the one shown by default.
KINDS: Final[dict[str, tuple[Unit, ...]]] = {
    "temperature": (
        Unit("°C", 1.0, -ZERO_CELSIUS, 1),
        Unit("°F", 1.8, -459.67, 1),
        Unit("K", 1.0, 0.0, 2),
    ),
    "set_point": (Unit("°C", 1.0, -ZERO_CELSIUS, 1), Unit("°F", 1.8, -459.67, 1), Unit("K", 1.0, 0.0, 2)),
    "temperature_difference": (Unit("K", 1.0, 0.0, 1), Unit("°F", 1.8, 0.0, 1)),
    "length": (Unit("mm", 1e3, 0.0, 2), Unit("in", 1 / 0.0254, 0.0, 3), Unit("m", 1.0, 0.0, 5)),
    "large_length": (Unit("mm", 1e3, 0.0, 0), Unit("in", 1 / 0.0254, 0.0, 2), Unit("m", 1.0, 0.0, 4)),
    "duration": (Unit("min", 1 / 60, 0.0, 1), Unit("s", 1.0, 0.0, 1), Unit("h", 1 / 3600, 0.0, 2)),
    "time_constant": (Unit("s", 1.0, 0.0, 1), Unit("min", 1 / 60, 0.0, 2)),
    "power": (Unit("W", 1.0, 0.0, 0), Unit("kW", 1e-3, 0.0, 3)),
    "energy": (Unit("kWh", 1 / 3.6e6, 0.0, 2), Unit("J", 1.0, 0.0, 0), Unit("MJ", 1e-6, 0.0, 3)),
    "power_density": (Unit("W/cm²", 1e-4, 0.0, 2), Unit("W/m²", 1.0, 0.0, 0)),
    "conductivity": (Unit("W/m·K", 1.0, 0.0, 3),),
    "density": (Unit("kg/m³", 1.0, 0.0, 0), Unit("g/cm³", 1e-3, 0.0, 3)),
    "specific_heat": (Unit("J/kg·K", 1.0, 0.0, 0),),
    "heat_capacity": (Unit("J/K", 1.0, 0.0, 0),),
    "contact_resistance": (Unit("m²K/W", 1.0, 0.0, 5),),
    "voltage": (Unit("V", 1.0, 0.0, 0),),
    "force": (Unit("N", 1.0, 0.0, 1),),
    "magnet_pull": (Unit("kPa", 1e-3, 0.0, 1), Unit("Pa", 1.0, 0.0, 0)),
    "current": (Unit("A", 1.0, 0.0, 1),),
    "per_kelvin": (Unit("%/K", 100.0, 0.0, 3), Unit("1/K", 1.0, 0.0, 6)),
    "conductance": (Unit("W/K", 1.0, 0.0, 3),),
    "air_flow": (Unit("m³/h", 3600.0, 0.0, 1), Unit("m³/s", 1.0, 0.0, 6), Unit("L/s", 1000.0, 0.0, 2)),
    "clock": (Unit("h", 1 / 3600, 0.0, 2), Unit("s", 1.0, 0.0, 0)),
    "position": (Unit("mm", 1e3, 0.0, 1), Unit("in", 1 / 0.0254, 0.0, 3), Unit("m", 1.0, 0.0, 5)),
    "fraction": (Unit("%", 100.0, 0.0, 1), Unit("1", 1.0, 0.0, 4)),
    "ratio": (Unit("", 1.0, 0.0, 2),),
    "angle": (Unit("°", 57.29577951308232, 0.0, 0), Unit("rad", 1.0, 0.0, 3)),
    "wavelength": (Unit("µm", 1e6, 0.0, 1), Unit("m", 1.0, 0.0, 8)),
    "altitude": (Unit("m", 1.0, 0.0, 0), Unit("ft", 1 / 0.3048, 0.0, 0)),
    "pressure": (Unit("hPa", 1e-2, 0.0, 1), Unit("Pa", 1.0, 0.0, 0)),
    "days": (Unit("d", 1 / 86400, 0.0, 0), Unit("s", 1.0, 0.0, 0)),
    "count": (Unit("", 1.0, 0.0, 0),),
    "air_changes": (Unit("1/h", 3600.0, 0.0, 2), Unit("1/s", 1.0, 0.0, 6)),
    "acceleration": (Unit("mm/s²", 1e3, 0.0, 0), Unit("m/s²", 1.0, 0.0, 3)),
    "speed": (Unit("mm/s", 1e3, 0.0, 0), Unit("m/s", 1.0, 0.0, 4)),
    "air_speed": (Unit("m/s", 1.0, 0.0, 2),),
    "volume_flow": (Unit("mm³/s", 1e9, 0.0, 1), Unit("m³/s", 1.0, 0.0, 12)),
    "drift": (Unit("K/min", 60.0, 0.0, 2), Unit("°F/min", 108.0, 0.0, 2), Unit("K/s", 1.0, 0.0, 5)),
    "area": (Unit("cm²", 1e4, 0.0, 1), Unit("mm²", 1e6, 0.0, 0), Unit("m²", 1.0, 0.0, 6)),
    "volume": (Unit("cm³", 1e6, 0.0, 1), Unit("m³", 1.0, 0.0, 9)),
    "mass": (Unit("g", 1e3, 0.0, 0), Unit("kg", 1.0, 0.0, 3)),
    "stress": (Unit("MPa", 1e-6, 0.0, 2), Unit("Pa", 1.0, 0.0, 0)),
    "foundation_stiffness": (Unit("N/mm³", 1e-9, 0.0, 0), Unit("N/m³", 1.0, 0.0, 0)),
    "expansion": (Unit("ppm/K", 1e6, 0.0, 1), Unit("1/K", 1.0, 0.0, 8)),
    "bow": (Unit("µm", 1e6, 0.0, 0), Unit("mil", 1e3 / 0.0254, 0.0, 1)),
    "demand_price": (Unit("per kW", 1e3, 0.0, 2), Unit("per W", 1.0, 0.0, 5)),
    "mass_price": (Unit("per kg", 1.0, 0.0, 2),),
    "hour_price": (Unit("per h", 3600.0, 0.0, 2), Unit("per s", 1.0, 0.0, 6)),
    "money": (Unit("", 1.0, 0.0, 2),),
    "carbon": (Unit("g/kWh", 3.6e9, 0.0, 0), Unit("kg/J", 1.0, 0.0, 12)),
    "price": (Unit("per kWh", 3.6e6, 0.0, 3), Unit("per J", 1.0, 0.0, 12)),
}

# What may be typed after a number, beside the symbols above.
_ALIASES: Final = {
    "c": "°C", "degc": "°C", "f": "°F", "degf": "°F", "inch": "in", '"': "in", "minutes": "min", "hours": "h",
    "w/mk": "W/m·K", "w/m2": "W/m²", "w/cm2": "W/cm²", "m2k/w": "m²K/W", "pct": "%", "ach": "1/h",
    "kg/m3": "kg/m³", "g/cm3": "g/cm³", "mm3/s": "mm³/s", "j/kgk": "J/kg·K", "cm2": "cm²", "n/mm3": "N/mm³",
}  # fmt: skip

_NUMBER = re.compile(r"^\s*([+\-−]?\d+(?:[.,]\d+)?(?:[eE][+-]?\d+)?)\s*(.*?)\s*$")


def si_unit(kind: str) -> str:
    """Symbol of a kind's SI unit, which stored values have. Raises StopIteration for a kind without one."""
    return next(u.symbol for u in KINDS[kind] if u.scale == 1.0 and u.offset == 0.0)


@dataclass(frozen=True, slots=True)
class UnitPreferences:
    """What the user likes to read. Never touches stored values."""

    fahrenheit: bool = False
    inches: bool = False
    comma: bool = False

    def read(self, text: str) -> str:
        """A text with the decimal sign that the user likes."""
        return with_comma(text) if self.comma else text

    def unit(self, kind: str) -> Unit:
        """The unit in which a kind is shown."""
        units = KINDS[kind]
        if self.fahrenheit and kind in ("temperature", "set_point", "temperature_difference", "drift"):
            return units[1]
        if self.inches and kind in ("length", "large_length", "position", "bow"):
            return units[1]
        return units[0]


METRIC: Final = UnitPreferences()


def celsius(value: float) -> float:
    """Kelvin from degrees Celsius."""
    return value + ZERO_CELSIUS


def parse_quantity(text: str, kind: str, default: Unit, where: str = "value") -> float:
    """Read a typed number with an optional unit and return it in SI.

    Decimal commas are understood. Raises :class:`InputError` with the text, the place and the units that are accepted.
    """
    shown = text.strip()[:40]
    if kind == "set_point" and shown.lower() == _OFF_WORD:
        return OFF
    match = _NUMBER.match(text)
    units = KINDS[kind]
    names = " or ".join(u.symbol for u in units if u.symbol) or "no unit"
    if match is None:
        raise InputError(
            f"{where}: “{shown}” is not a number.",
            problems=(Problem(where, f"“{shown}”", f"a number, optionally followed by {names}"),),
        )
    value = float(match.group(1).replace(",", ".").replace("−", "-"))
    symbol = match.group(2)
    unit = default
    if symbol:
        wanted = _ALIASES.get(symbol.lower(), symbol)
        found = [u for u in units if u.symbol.lower() == wanted.lower()]
        if not found:
            raise InputError(
                f"{where}: the unit “{symbol}” does not fit here.",
                problems=(Problem(where, f"“{shown}”", f"a number in {names}"),),
            )
        unit = found[0]
    result = unit.to_si(value)
    if not math.isfinite(result):
        raise InputError(f"{where}: “{shown}” is not a finite number.")
    return result


def show(value: float, kind: str, prefs: UnitPreferences = METRIC, *, digits: int | None = None) -> str:
    """A number with its unit, as text, in the preferred unit; a value that is not finite becomes a dash."""
    unit = prefs.unit(kind)
    text = show_number(value, kind, prefs, digits=digits)
    if text in ("–", _OFF_WORD) or not unit.symbol:
        return text
    return f"{text} {unit.symbol}"


def show_number(value: float, kind: str, prefs: UnitPreferences = METRIC, *, digits: int | None = None) -> str:
    """A number in the preferred unit without the unit's symbol, with a true minus sign; ``digits`` count in the first unit."""
    if not math.isfinite(value):
        return "–"
    if kind == "set_point" and value <= OFF:
        return _OFF_WORD
    unit = prefs.unit(kind)
    places = unit.digits if digits is None else digits + unit.digits - KINDS[kind][0].digits
    text = f"{unit.from_si(value):.{places}f}"
    if float(text) == 0.0:
        text = text.lstrip("-")
    return prefs.read(text.replace("-", "−"))


def show_duration(seconds: float) -> str:
    """A duration as a person says it: ``42 s``, ``13 min``, ``2 h 05 min``, ``31 h``."""
    if not math.isfinite(seconds):
        return "–"
    if seconds < 90:
        return f"{seconds:.0f} s"
    minutes = round(seconds / 60)
    if minutes < 120:
        return f"{minutes} min"
    if minutes < 24 * 60:
        return f"{minutes // 60} h {minutes % 60:02d} min"
    return f"{minutes / 60:.0f} h"


def show_moment(seconds: float) -> str:
    """A moment of an accident, to the second while seconds matter: ``42 s``, ``4 min 20 s``, ``25 min``."""
    if not math.isfinite(seconds) or seconds < 90 or seconds >= 1200:
        return show_duration(seconds)
    return f"{int(seconds) // 60} min {int(seconds) % 60:02d} s"
