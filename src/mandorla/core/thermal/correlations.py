"""Published convection correlations, one function each, compiled, with validity range and source.

A correlation returns a Nusselt number and never clamps. Its range stands in ``CORRELATIONS``; a run records the range of
Rayleigh numbers it met and flags what lay outside (see ``network.range_notes``).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.materials.air import air_conductivity, air_kinematic_viscosity, air_prandtl

GRAVITY: Final = 9.80665
STEFAN_BOLTZMANN: Final = 5.670374419e-8


@dataclass(frozen=True, slots=True)
class Correlation:
    """A published correlation: what for, its Rayleigh or Reynolds range, its source."""

    name: str
    what: str
    low: float
    high: float
    source: str
    function: Callable[..., float]


CORRELATIONS: Final[dict[str, Correlation]] = {}


def published(
    name: str, what: str, low: float, high: float, source: str
) -> Callable[[Callable[..., float]], Callable[..., float]]:
    """Register a correlation with its range and source."""

    def register(function: Callable[..., float]) -> Callable[..., float]:
        CORRELATIONS[name] = Correlation(name, what, low, high, source, function)
        return function

    return register


@published("plate-up", "hot plate facing up, L = area/perimeter", 1e4, 1e11,
           "McAdams 1954; Lloyd and Moran 1974; Incropera 7th ed. eq. 9.30-9.31")  # fmt: skip
@compiled
def nusselt_plate_up(Ra: float) -> float:
    """Nusselt number of a hot plate facing up (or a cold one facing down)."""
    if Ra < 1e7:
        return float(0.54 * np.sqrt(np.sqrt(Ra)))
    return float(0.15 * np.cbrt(Ra))


@published("plate-down", "hot plate facing down, L = area/perimeter", 1e5, 1e10,
           "McAdams 1954; Incropera 6th ed. eq. 9.32")  # fmt: skip
@compiled
def nusselt_plate_down(Ra: float) -> float:
    """Nusselt number of a hot plate facing down (or a cold one facing up)."""
    return float(0.27 * np.sqrt(np.sqrt(Ra)))


@published("vertical", "vertical plate, L = height", 0.0, 1e12,
           "Churchill and Chu 1975; Incropera 7th ed. eq. 9.26")  # fmt: skip
@compiled
def nusselt_vertical(Ra: float, Pr: float) -> float:
    """Nusselt number of a vertical plate over the whole range of Rayleigh numbers."""
    return float((0.825 + 0.387 * np.cbrt(np.sqrt(Ra)) / (1.0 + (0.492 / Pr) ** (9.0 / 16.0)) ** (8.0 / 27.0)) ** 2)


@published("forced-plate", "laminar flow along a flat plate, L = length, mean", 0.0, 5e5,
           "Pohlhausen 1921; Incropera 7th ed. eq. 7.30")  # fmt: skip
@compiled
def nusselt_forced_plate(Re: float, Pr: float) -> float:
    """Mean Nusselt number of a laminar boundary layer on a flat plate."""
    return float(0.664 * np.sqrt(Re) * np.cbrt(Pr))


@compiled
def rayleigh(T_surface: float, T_fluid: float, length: float) -> float:
    """Rayleigh number in air at the film temperature (K, K, m)."""
    film = 0.5 * (T_surface + T_fluid)
    nu = air_kinematic_viscosity(film)
    return GRAVITY * abs(T_surface - T_fluid) / film * length**3 / nu**2 * air_prandtl(film)


@compiled
def h_horizontal(T_surface: float, T_air: float, length: float, facing_up: bool) -> float:
    """Natural-convection coefficient of a horizontal surface in W/m²K; length is area over perimeter."""
    Ra = rayleigh(T_surface, T_air, length)
    hot = T_surface >= T_air
    Nu = nusselt_plate_up(Ra) if hot == facing_up else nusselt_plate_down(Ra)
    return Nu * air_conductivity(0.5 * (T_surface + T_air)) / length


@compiled
def h_vertical(T_surface: float, T_air: float, height: float) -> float:
    """Natural-convection coefficient of a vertical surface in W/m²K."""
    film = 0.5 * (T_surface + T_air)
    Ra = rayleigh(T_surface, T_air, height)
    return nusselt_vertical(Ra, air_prandtl(film)) * air_conductivity(film) / height


@compiled
def h_forced(T_surface: float, T_air: float, speed: float, length: float) -> float:
    """Forced-convection coefficient of a plate of given length in W/m²K; zero without flow."""
    if speed <= 0.0:
        return 0.0
    film = 0.5 * (T_surface + T_air)
    Re = speed * length / air_kinematic_viscosity(film)
    return nusselt_forced_plate(Re, air_prandtl(film)) * air_conductivity(film) / length


@compiled
def h_mixed(natural: float, forced: float) -> float:
    """Assisting natural and forced convection by the cubic sum (Churchill 1977; Incropera 7th ed. eq. 9.64, n = 3)."""
    if forced == 0.0:
        return natural
    return float(np.cbrt(natural**3 + forced**3))


@compiled
def h_radiation(T1: float, T2: float, exchange: float) -> float:
    """Linearised radiation coefficient in W/m²K for an exchange factor (effective emissivity)."""
    return exchange * STEFAN_BOLTZMANN * (T1 * T1 + T2 * T2) * (T1 + T2)
