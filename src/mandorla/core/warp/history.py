"""Print history of temperature: a layer-wise column with births.

rho cp A dT/dt = d/dz(k A dT/dz) - h(z) P(z) (T - T_chamber) for the printed polymer, every new lump of layers landing at the
deposition temperature, the foot coupled to the plate's surface through a contact resistance. Lumps are printed with
graded sub-steps inside their time; the pulse that a lump blurs is restored by the zeta(1/2) sum of surface pulses.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.materials.library_data import Polymer
from mandorla.core.part.mesh import Floats
from mandorla.core.part.print_time import PrintPlan
from mandorla.core.part.process import Process
from mandorla.core.part.sections import Sections
from mandorla.core.thermal.correlations import STEFAN_BOLTZMANN, h_forced, h_mixed, h_vertical

CONTACT: Final = 1e-4  # m²K/W, printed foot on a plate surface
FAN_JET: Final = 3.0  # m/s along the part at full part-cooling fan
_JET_LENGTH: Final = 0.03  # m, the fan's footprint on the part
_EMISSIVITY: Final = 0.9
_SUBSTEPS: Final = 6
_ZETA_HALF: Final = -1.4603545088095868  # Riemann zeta(1/2)
MAX_LUMPS: Final = 160


@dataclass(frozen=True, slots=True)
class Lumps:
    """Groups of layers from the plate up, all arrays (n,): edges ``bottom`` and ``top`` m, polymer ``area`` m², ``perimeter``
    m, ``stiffness`` fraction, half lengths ``half_x``/``half_y`` m, ``time`` s to print, ``layers`` layers in the lump."""

    bottom: Floats
    top: Floats
    area: Floats
    gross_area: Floats
    perimeter: Floats
    stiffness: Floats
    half_x: Floats
    half_y: Floats
    time: Floats
    layers: Floats


@dataclass(frozen=True, slots=True)
class History:
    """Temperatures (n,) in K by lump: ``landing`` of the substrate when the next layer comes, ``end`` when the print ends;
    ``age`` s from a lump's birth to the end of the print, ``duration`` s."""

    landing: Floats
    end: Floats
    age: Floats
    duration: float


def make_lumps(sections: Sections, plan: PrintPlan, layer_height: float, most: int) -> Lumps:
    """Group slabs into at most ``most`` lumps of equal height; a lump never hides a jump of section larger than 20 %."""
    n = sections.z.size
    height = sections.height
    jumps = np.flatnonzero(np.abs(np.diff(sections.area)) > 0.2 * np.maximum(sections.area[1:], sections.area[:-1])) + 1
    wanted = max(1, min(most, int(np.ceil(height / layer_height))))
    cuts = np.unique(np.concatenate([np.round(np.linspace(0, n, wanted + 1)).astype(int), jumps]))
    if cuts.size - 1 > most:  # too many jumps for the budget: keep the even cuts only
        cuts = np.unique(np.round(np.linspace(0, n, wanted + 1)).astype(int))
    count = np.diff(cuts)

    def mean(values: Floats) -> Floats:
        return np.asarray(np.add.reduceat(values, cuts[:-1]) / count)

    bottom, top = cuts[:-1] * sections.dz, cuts[1:] * sections.dz
    layers = (top - bottom) / layer_height
    return Lumps(
        bottom=bottom,
        top=top,
        area=mean(plan.solid_area),
        gross_area=mean(sections.area),
        perimeter=mean(sections.perimeter),
        stiffness=mean(plan.stiffness_fraction),
        half_x=0.5 * mean(np.ptp(sections.x_extent, axis=1)),
        half_y=0.5 * mean(np.ptp(sections.y_extent, axis=1)),
        time=mean(plan.layer_time) * layers,
        layers=layers,
    )


def side_coefficient(chamber: float, fan: float) -> float:
    """Heat transfer from the part's sides in W/m²K: natural convection, radiation, a tenth of the fan's jet."""
    warm = chamber + 15.0
    natural = h_vertical(warm, chamber, 0.05)
    radiation = 4.0 * _EMISSIVITY * STEFAN_BOLTZMANN * (0.5 * (warm + chamber)) ** 3
    return h_mixed(natural, h_forced(warm, chamber, 0.1 * FAN_JET * fan, _JET_LENGTH)) + radiation


def top_coefficient(chamber: float, fan: float) -> float:
    """Heat transfer from the layer being printed in W/m²K: natural convection, radiation and the fan's jet."""
    warm = chamber + 40.0
    natural = h_vertical(warm, chamber, 0.05)
    radiation = 4.0 * _EMISSIVITY * STEFAN_BOLTZMANN * (0.5 * (warm + chamber)) ** 3
    return h_mixed(natural, h_forced(warm, chamber, FAN_JET * fan, _JET_LENGTH)) + radiation


@compiled
def grow(
    dz: Floats, area: Floats, gross: Floats, perimeter: Floats, time: Floats, density_heat: float, k: float,
    h_side: float, h_top: float, plate_first: float, plate_rest: float, first_height: float, chamber: float,
    deposition: float, contact: float,
    substeps: int,
) -> tuple[Floats, Floats]:  # fmt: skip
    """Print lump after lump; returns the top temperature before the next lump lands, and the profile at the end (n,) K."""
    n = dz.size
    T = np.full(n, chamber)
    before = np.empty(n)
    diag, rhs, off = np.empty(n), np.empty(n), np.empty(n)
    ratio = 2.0
    shares = np.empty(substeps)
    total = 0.0
    for q in range(substeps):
        shares[q] = ratio**q
        total += shares[q]
    height = 0.0
    for j in range(n):
        T[j] = deposition
        plate = plate_first if height < first_height else plate_rest
        height += dz[j]
        for q in range(substeps):
            h = time[j] * shares[q] / total
            for i in range(j + 1):
                c = density_heat * area[i] * dz[i] / h
                side = h_side * perimeter[i] * dz[i]
                d = c + side
                r = c * T[i] + side * chamber
                if i == 0:
                    g = area[0] / (contact + 0.5 * dz[0] / k)
                    d += g
                    r += g * plate
                else:
                    g = k * min(area[i - 1], area[i]) / (0.5 * (dz[i - 1] + dz[i]))
                    off[i] = g
                    d += g
                    diag[i - 1] += g
                if i == j:
                    # open cells let the whole outline radiate and convect, not the polymer's own area only
                    g = 1.0 / (1.0 / (h_top * gross[j]) + 0.5 * dz[j] / (k * area[j]))
                    d += g
                    r += g * chamber
                diag[i] = d
                rhs[i] = r
            for i in range(1, j + 1):
                f = off[i] / diag[i - 1]
                diag[i] -= f * off[i]
                rhs[i] += f * rhs[i - 1]
            T[j] = rhs[j] / diag[j]
            for i in range(j - 1, -1, -1):
                T[i] = (rhs[i] + off[i + 1] * T[i + 1]) / diag[i]
        before[j] = T[j]
    return before, T


def print_history(
    lumps: Lumps, polymer: Polymer, process: Process, plate_first: float, plate_rest: float, chamber: float, fan: float,
    substeps: int = _SUBSTEPS,
) -> History:  # fmt: skip
    """Temperatures through the print, the plate's surface at ``plate_first`` for the first millimetre, then ``plate_rest``."""
    density_heat = polymer.density.typical * polymer.specific_heat.typical
    k = polymer.conductivity.typical
    dz = lumps.top - lumps.bottom
    before, end = grow(
        dz, lumps.area, lumps.gross_area, lumps.perimeter, lumps.time, density_heat, k, side_coefficient(chamber, fan),
        top_coefficient(chamber, fan), plate_first, plate_rest, 0.001, chamber, polymer.deposition_temperature.typical,
        CONTACT, substeps,
    )  # fmt: skip
    # A lump of g layers lands as one pulse: its dip below the mean is sqrt(g) times that of single layers.
    layer_time = lumps.time / lumps.layers
    pulse = process.layer_height / np.sqrt(np.pi * k / density_heat * layer_time)
    excess = -_ZETA_HALF * (polymer.deposition_temperature.typical - before) * pulse
    landing = before + excess * np.maximum(np.sqrt(lumps.layers) - 1.0, 0.0)
    landing = np.minimum(landing, polymer.deposition_temperature.typical)
    clock = np.cumsum(lumps.time)
    age = clock[-1] - clock + 0.5 * lumps.time
    for array in (landing, end, age):
        array.setflags(write=False)
    return History(landing, end, age, float(clock[-1]))
