"""Simulated instruments on a simulated rig, each with hidden faults drawn from a seed: what the engineer's work should find.

They stand in for devices that Mandorla has never met, and write the same plain files that such devices write.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np

from mandorla.core.measure.correct import stem_share
from mandorla.core.measure.image import homography
from mandorla.core.measure.infrared import shown_for
from mandorla.core.measure.models import Instrument
from mandorla.core.rig.bed import Bed
from mandorla.core.rig.consumers import at_plug
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.thermal.heatup import HeatUp, heat_up, time_steps
from mandorla.core.thermal.parameter_samples import ParameterSample, rig_of, typical_sample
from mandorla.core.thermal.stack import Floats
from mandorla.core.thermal.uncertainty_bands import sampled_curves

SWITCHED_ON = datetime(2026, 5, 4, 9, 0, 0)


@dataclass(frozen=True, slots=True)
class Faults:
    """What is wrong with the instruments of a bench (K, 1, s): none of it is shown to the person.

    Contact probe: offset, gain, stem loss as a share of the nominal one. Imager: offset, emissivity of the surface, of the tape.
    Sensor: bias. All: noise, share of lines that drop out, clock offset of the logger, base load of the plug (W).
    """

    probe_offset: float
    probe_gain: float
    stem: float
    imager_offset: float
    emissivity: float
    tape: float
    sensor_bias: float
    noise: float
    dropouts: float
    clock: float
    base_load: float

    @classmethod
    def drawn(cls, seed: int, emissivity: tuple[float, float] = (0.80, 0.95)) -> Faults:
        """Faults of a seed: offsets within what makers allow or more, emissivities within what handbooks say."""
        rng = np.random.default_rng(seed)
        return cls(
            probe_offset=float(rng.normal(0.0, 3.0)), probe_gain=float(rng.normal(0.0, 0.01)),
            stem=float(np.clip(rng.normal(1.0, 0.35), 0.1, 2.2)), imager_offset=float(rng.uniform(-1.5, 1.5)),
            emissivity=float(rng.uniform(*emissivity)), tape=float(np.clip(rng.normal(0.95, 0.012), 0.9, 0.99)),
            sensor_bias=float(rng.normal(0.0, 1.2)), noise=float(rng.uniform(0.05, 0.25)),
            dropouts=float(rng.uniform(0.0, 0.02)), clock=float(rng.uniform(-90.0, 90.0)), base_load=float(rng.uniform(4.0, 25.0)),
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Bench:
    """A rig as it truly is over time: what is believed of it, heat-up and curves (m,) by name on ``time`` s of what it truly is."""

    rig: Rig
    heat: HeatUp
    time: Floats
    curves: dict[str, Floats]

    def surface(self, x: float, y: float) -> Floats:
        """True surface (m,) at a place (m) in K."""
        air = self.curves["air"]
        theta = float(self.heat.spread.at(np.array([[x, y]]))[0])
        return np.asarray(air + (self.curves["surface"] - air) * theta)


def bench_of(
    rig: Rig, settings: Settings, criteria: Criteria, horizon: float, draw: ParameterSample | None = None
) -> Bench:
    """March a rig whose hidden truth is a draw about what is believed of it."""
    true = draw or typical_sample(rig)
    heat = heat_up(rig_of(rig, true), settings, criteria, with_bands=False)
    steps = time_steps(horizon, 4.0)
    curves = sampled_curves(rig, settings, heat.spread, true, steps)
    return Bench(rig, heat, np.concatenate([[0.0], np.cumsum(steps)]), curves)


def probe_shows(
    true: Floats | float, faults: Faults, instrument: Instrument, bed: Bed | None, ambient: Floats | float
) -> Floats:
    """What the contact probe shows (K) of a true surface, its stem loss and its own error in it; ``bed`` None off a surface."""
    T = np.asarray(true, dtype=np.float64)
    share = min(0.9, faults.stem * stem_share(instrument, bed)) if bed is not None else 0.0
    tip = T - share * (T - ambient)
    return np.asarray(tip + faults.probe_offset + faults.probe_gain * (tip - 273.15))


def rounded(shown: Floats, instrument: Instrument, noise: float, rng: np.random.Generator) -> Floats:
    """Noise and the display's last digit."""
    noisy = shown + rng.normal(0.0, noise, np.shape(shown)) if noise > 0.0 else shown
    step = instrument.resolution
    return np.asarray(np.round((noisy - 273.15) / step) * step + 273.15 if step > 0.0 else noisy)


def logger_csv(
    bench: Bench, faults: Faults, instrument: Instrument, seed: int, *, every: float = 10.0,
    places: tuple[tuple[float, float], ...] = ((0.0, 0.0),), comma: bool = False,
) -> bytes:  # fmt: skip
    """The data logger's file: date and clock, the display's figure, the probe at some places, the chamber's air; lines drop out."""
    rng = np.random.default_rng(seed + 1000)
    t = np.arange(0.0, bench.time[-1] + 0.5 * every, every)
    columns = [rounded(np.interp(t, bench.time, bench.curves["reading"]), instrument, faults.noise, rng)]
    head = ["moment", "bed display °C"]
    air = np.interp(t, bench.time, bench.curves["air"])
    for i, (x, y) in enumerate(places):
        true = np.interp(t, bench.time, bench.surface(x, y))
        columns.append(
            rounded(probe_shows(true, faults, instrument, bench.rig.bed, air), instrument, faults.noise, rng)
        )
        head.append(f"surface probe {i + 1} °C")
    if bench.rig.chamber.enclosed:
        columns.append(rounded(probe_shows(air, faults, instrument, None, 295.15), instrument, faults.noise, rng))
        head.append("chamber air °C")
    delimiter = ";" if comma else ","
    lines = [delimiter.join(head)]
    for k, s in enumerate(t):
        if rng.random() < faults.dropouts:
            continue
        moment = (SWITCHED_ON + timedelta(seconds=float(s) + round(faults.clock))).strftime("%Y-%m-%d %H:%M:%S")
        cells = [f"{c[k] - 273.15:.2f}" for c in columns]
        lines.append(delimiter.join([moment, *(c.replace(".", ",") if comma else c for c in cells)]))
    return ("\n".join(lines) + "\n").encode()


def plug_csv(
    bench: Bench, faults: Faults, seed: int, *, every: float = 30.0, idle: float = 300.0, energy: bool = False
) -> bytes:
    """The plug meter's file: seconds and W (or a running total in kWh), beginning ``idle`` s before heating."""
    rng = np.random.default_rng(seed + 2000)
    t = np.arange(-idle, bench.time[-1] + 0.5 * every, every)
    power = np.where(
        t < 0.0, 0.0, np.interp(t, bench.time, at_plug(bench.rig, bench.curves["power"], bench.curves["chamber power"]))
    )
    power = faults.base_load + power * (1.0 + rng.normal(0.0, 0.004)) + rng.normal(0.0, 0.6, t.size)
    if energy:
        total = np.concatenate([[0.0], np.cumsum(0.5 * (power[1:] + power[:-1]) * every)]) / 3.6e6
        rows = [f"{a:.0f},{e:.4f}" for a, e in zip(t, total, strict=True)]
        return ("seconds,energy kWh\n" + "\n".join(rows) + "\n").encode()
    rows = [f"{a:.0f},{p:.1f}" for a, p in zip(t, power, strict=True)]
    return ("seconds,power W\n" + "\n".join(rows) + "\n").encode()


def imager_shows(
    true: Floats, emissivity: Floats | float, faults: Faults, instrument: Instrument, reflected: float
) -> Floats:
    """What the imager shows (K) of a surface of an emissivity, with its offset."""
    band = (instrument.band_low, instrument.band_high)
    return shown_for(true, emissivity, instrument.emissivity, reflected, band) + faults.imager_offset


def imager_csv(
    bench: Bench, faults: Faults, instrument: Instrument, seed: int, time: float, reflected: float, *,
    corners: tuple[tuple[float, float], ...], rows: int = 96, columns: int = 128,
    patches: tuple[tuple[float, float, float], ...] = (),
) -> bytes:  # fmt: skip
    """The imager's matrix in °C: the bed seen in perspective between four ``corners``, tape ``patches`` (x, y, side m) on it."""
    rng = np.random.default_rng(seed + 3000)
    bed = bench.rig.bed
    back = np.linalg.inv(homography(corners, bed.width, bed.depth))
    u, v = np.meshgrid(np.arange(columns), np.arange(rows))
    q = np.stack([u, v, np.ones_like(u)], axis=-1) @ back.T
    x, y = q[..., 0] / q[..., 2], q[..., 1] / q[..., 2]
    on = (np.abs(x) <= bed.width / 2) & (np.abs(y) <= bed.depth / 2)
    theta = bench.heat.spread.at(np.column_stack([x[on], y[on]]))
    air = float(np.interp(time, bench.time, bench.curves["air"]))
    centre = float(np.interp(time, bench.time, bench.curves["surface"]))
    T = np.full(u.shape, bench.rig.room_temperature + 2.0)
    T[on] = air + (centre - air) * theta
    e = np.full(u.shape, 0.9)
    e[on] = faults.emissivity
    for px, py, side in patches:
        e[on & (np.abs(x - px) <= side / 2) & (np.abs(y - py) <= side / 2)] = faults.tape
    shown = imager_shows(T, e, faults, instrument, reflected) + rng.normal(0.0, 0.08, T.shape)
    return ("\n".join(",".join(f"{c - 273.15:.1f}" for c in row) for row in shown) + "\n").encode()


def display_shows(bench: Bench, time: float) -> float:
    """The printer's own display (K)."""
    return float(np.interp(time, bench.time, bench.curves["reading"]))


def plausible_corners(columns: int = 128, rows: int = 96) -> tuple[tuple[float, float], ...]:
    """Corners of a bed seen from the front and above, as a person holds an imager."""
    return (
        (0.12 * columns, 0.90 * rows), (0.88 * columns, 0.90 * rows), (0.76 * columns, 0.14 * rows), (0.24 * columns, 0.14 * rows),
    )  # fmt: skip
