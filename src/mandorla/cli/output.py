"""How answers are printed: SI values with their units as JSON, or sentences and figures in the units that were asked for."""

from __future__ import annotations

import json
import math
import sys
from typing import Any, Final

from mandorla.core.failure.messages import margin_text
from mandorla.core.units import METRIC, UnitPreferences, celsius, show, show_duration

UNITS: Final[dict[str, UnitPreferences]] = {
    "metric": METRIC, "degF": UnitPreferences(True, False), "inch": UnitPreferences(False, True), "us": UnitPreferences(True, True),
}  # fmt: skip
_KIND_OF_UNIT: Final = {"K": "temperature", "W": "power", "J": "energy", "m": "length", "kg": "mass"}
_DIFFERENCE_BELOW: Final = celsius(-100.0)  # a figure in K below it is a difference


def quantity(value: float, unit: str) -> dict[str, Any]:
    """A number with its unit; None stands for what does not exist (never ready, nothing let go)."""
    return {"value": finite(value), "unit": unit}


def finite(value: float) -> float | None:
    """A number, None where there is none."""
    return float(value) if math.isfinite(value) else None


def band(value: float, low: float, high: float, unit: str) -> dict[str, Any]:
    """A number with its 90 % range and unit."""
    return {**quantity(value, unit), "low": float(low), "high": float(high)}


def readable(item: dict[str, Any], units: UnitPreferences) -> str:
    """A quantity or band as text."""
    if item["value"] is None:
        return "not known"
    value, unit = float(item["value"]), str(item["unit"])
    if unit == "s":
        return show_duration(value)
    if unit not in _KIND_OF_UNIT:
        return f"{value:.3g}"
    kind = _KIND_OF_UNIT[unit]
    if unit == "K" and value < _DIFFERENCE_BELOW:
        kind = "temperature_difference"
    text = show(value, kind, units)
    if "low" in item:
        text += f"  (90 %: {show(item['low'], kind, units)} to {show(item['high'], kind, units)})"
    return text


def as_json(answer: object) -> None:
    """Print one JSON object."""
    print(json.dumps(answer, indent=1, ensure_ascii=False))


def as_text(answer: dict[str, Any], units: UnitPreferences) -> None:
    """Print the sentence, then every quantity of an answer."""
    print(answer["sentence"])
    figures(answer, units)


def figures(answer: dict[str, Any], units: UnitPreferences) -> None:
    """Print every quantity of an answer."""
    for name, value in answer.items():
        if isinstance(value, dict) and "unit" in value and value.get("value") is not None:
            text = margin_text(float(value["value"])) if name == "hold_margin" else readable(value, units)
            print(f"  {name.replace('_', ' '):24s} {text}")


def progress(fraction: float, stage: str) -> None:
    """Show progress on a terminal, nothing elsewhere."""
    if sys.stderr.isatty():
        end = "\n" if fraction >= 1.0 else ""
        print(f"\r{100 * fraction:3.0f} %  {stage:40s}", end=end, file=sys.stderr, flush=True)
