"""A material value with its spread and its source, and the plausible range of every property."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from mandorla.core.errors import LibraryDataError, Problem

# property: (lowest, highest plausible figure in SI)
PLAUSIBLE: Mapping[str, tuple[float, float]] = {
    "conductivity": (0.01, 450.0),
    "density": (1.0, 20000.0),
    "specific_heat": (100.0, 4500.0),
    "emissivity": (0.01, 1.0),
    "rating": (300.0, 1500.0),
    "modulus": (1e4, 5e11),
    "poisson": (0.0, 0.49),
    "flatness": (0.0, 0.02),
    "hot_modulus": (0.05, 1.0),
    "across_layers": (0.1, 1.2),
    "expansion": (0.0, 4e-4),
    "glass_transition": (250.0, 700.0),
    "stress_free_temperature": (250.0, 750.0),
    "deposition_temperature": (400.0, 800.0),
    "strength": (1e4, 5e8),
    "healing_time": (1e-3, 1e3),
    "relaxation_time": (1e-2, 1e6),
    "bead_factor": (0.3, 1.0),
    "crystal_plateau": (0.0, 0.6),
    "creep_activation": (5e4, 5e5),
    "softening_activation": (1e5, 1e6),
    "joint_energy": (50.0, 5e4),
    "softening_viscosity": (1e11, 1e19),
    "melting_enthalpy": (0.0, 3e5),
    "stiffness": (1e8, 1e14),
    "lowest": (250.0, 400.0),
    "highest": (300.0, 600.0),
    "fracture_energy": (1.0, 1e5),
    "peak_temperature": (273.15, 700.0),
    "cold_fraction": (0.0, 1.0),
    "width_below": (1.0, 200.0),
    "width_above": (1.0, 200.0),
    "resistance": (0.0, 1.0),
    "pull": (100.0, 1e6),
    "pole_width": (5e-4, 3e-2),
    "texture_depth": (0.0, 1e-3),
    "depth": (0.0, 1e-3),
    "life": (1.0, 1e5),
    "factor": (0.01, 10.0),
    "cold": (0.01, 10.0),
    "shock": (5.0, 500.0),
}


@dataclass(frozen=True, slots=True)
class Value:
    """Low, typical and high of one property in SI, with its source in words."""

    low: float
    typical: float
    high: float
    source: str

    @property
    def relative_spread(self) -> float:
        """Half of (high - low) over the typical value."""
        return 0.5 * (self.high - self.low) / self.typical if self.typical else math.inf

    def times(self, *factors: Value) -> Value:
        """The product with independent factors: their spreads, in the logarithm, add as squares; its source is this one's."""
        typical = self.typical * math.prod(f.typical for f in factors)
        down = math.sqrt(sum(math.log(v.typical / v.low) ** 2 for v in (self, *factors)))
        up = math.sqrt(sum(math.log(v.high / v.typical) ** 2 for v in (self, *factors)))
        return Value(typical * math.exp(-down), typical, typical * math.exp(up), self.source)


def read_value(where: str, name: str, row: object, sources: Mapping[str, str]) -> Value:
    """Check one TOML row and return it as a :class:`Value`.

    Raises :class:`LibraryDataError` when a figure is missing, out of order, implausible or without a known source.
    """
    if not isinstance(row, dict) or not {"low", "typical", "high", "source"} <= set(row):
        raise LibraryDataError(f"{where}.{name}: a row needs low, typical, high and source")
    low, typical, high = float(row["low"]), float(row["typical"]), float(row["high"])
    floor, ceiling = PLAUSIBLE[name]
    if not (floor <= low <= typical <= high <= ceiling):
        raise LibraryDataError(
            f"{where}.{name} is implausible",
            problems=(
                Problem(
                    f"{where}.{name}", f"{low}/{typical}/{high}", f"{floor} <= low <= typical <= high <= {ceiling}"
                ),
            ),
        )
    if row["source"] not in sources:
        raise LibraryDataError(f"{where}.{name}: no source “{row['source']}” is listed in the file")
    return Value(low, typical, high, sources[row["source"]])
