"""Properties of dry air at 101 325 Pa, in compiled closed forms.

Sources: Sutherland's law for viscosity and conductivity with White's constants (Viscous Fluid Flow, 3rd ed., table 1-2
and eq. 1-36, 1-43); ideal gas density; specific heat from a parabola through Incropera table A.4. Against that table,
250 to 500 K: viscosity within 1.2 %, conductivity 1.3 %, specific heat 0.4 %, Prandtl number 0.8 %; kinematic viscosity
within 2.5 %, of which 1.3 % is the table's density, which belongs to 100 kPa (tests/golden/air.csv).
"""

from __future__ import annotations

import numpy as np

from mandorla.core.compiled import compiled


@compiled
def air_conductivity(T: float) -> float:
    """Thermal conductivity in W/m·K at T in K (250-500 K)."""
    return float(0.0241 * (T / 273.15) * np.sqrt(T / 273.15) * (273.15 + 194.4) / (T + 194.4))


@compiled
def air_viscosity(T: float) -> float:
    """Dynamic viscosity in Pa·s at T in K (250-500 K)."""
    return float(1.716e-5 * (T / 273.15) * np.sqrt(T / 273.15) * (273.15 + 110.4) / (T + 110.4))


@compiled
def air_density(T: float) -> float:
    """Density in kg/m³ at T in K and 101 325 Pa."""
    return 101325.0 / (287.05 * T)


@compiled
def air_specific_heat(T: float) -> float:
    """Specific heat at constant pressure in J/kg·K at T in K (250-500 K)."""
    return 1006.4 - 0.0170 * (T - 273.15) + 4.65e-4 * (T - 273.15) ** 2


@compiled
def air_kinematic_viscosity(T: float) -> float:
    """Kinematic viscosity in m²/s at T in K and 101 325 Pa."""
    return air_viscosity(T) / air_density(T)


@compiled
def air_prandtl(T: float) -> float:
    """Prandtl number at T in K."""
    return air_viscosity(T) * air_specific_heat(T) / air_conductivity(T)
