"""Three made-up measuring sessions for the demo, taken by the simulated instruments on rigs with something hidden in them."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from mandorla.core.measure.calibration import boil, ice_point
from mandorla.core.measure.log_guess import propose
from mandorla.core.measure.models import (
    Calibration,
    Instrument,
    LogMapping,
    Measurements,
    Reading,
    Session,
    StoredHeights,
    StoredImage,
    StoredLog,
)
from mandorla.core.measure.simulated_instruments import (
    Bench,
    Faults,
    bench_of,
    display_shows,
    imager_csv,
    imager_shows,
    logger_csv,
    plausible_corners,
    plug_csv,
    probe_shows,
    rounded,
)
from mandorla.core.project.store import Bundle
from mandorla.core.rig.fitted import mark_of
from mandorla.core.thermal.bow import thermal_bow
from mandorla.core.thermal.parameter_samples import ParameterSample, typical_sample
from mandorla.core.units import celsius

ALTITUDE = 120.0  # m, of the workshop
DISPLAY = Instrument(name="Display", kind="printer sensor", accuracy=2.0)
PLUG = Instrument(name="Plug meter", kind="plug meter", accuracy_of_reading=0.015, accuracy=0.0, resolution=0.1)
IMAGER = Instrument(name="Imager", kind="imager", accuracy=1.5, accuracy_of_reading=0.0, emissivity=0.95)


def calibrated(name: str, faults: Faults, days: tuple[str, ...], seed: int, **own: float) -> Instrument:
    """A touch probe that was tried in ice and in boiling water on some days."""
    probe = Instrument(name=name, kind="thermocouple", accuracy=1.5, accuracy_of_reading=0.004, **own)
    rng = np.random.default_rng(seed)
    done: list[Calibration] = []
    for n, day in enumerate(days):
        aged = replace(faults, probe_offset=faults.probe_offset - 0.3 * (len(days) - 1 - n))

        def shows(true: float, aged: Faults = aged) -> float:
            return float(
                rounded(probe_shows(true + rng.normal(0.0, 0.05), aged, probe, None, 295.15), probe, 0.05, rng)
            )

        done.append(ice_point(day, shows(273.15)))
        done.append(boil(day, shows(boil(day, 372.0, altitude=ALTITUDE).reference), altitude=ALTITUDE))
    return probe.model_copy(update={"calibrations": tuple(done)})


def mapped(data: bytes, file: str, probe: Instrument, plug: Instrument) -> LogMapping:
    """The proposal for a stand-in's log, with its instruments named."""
    found = propose(data, file)
    channels = []
    for c in found.channels:
        name = plug.name if c.what in ("power", "energy") else "" if c.place == "sensor" else probe.name
        channels.append(c.model_copy(update={"instrument": name}))
    return found.model_copy(update={"channels": tuple(channels)})


def hidden(bundle: Bundle, change: dict[str, float], horizon: float) -> Bench:
    """The rig with something hidden: factors by unknown name (a joint by its layer's key), applied beyond any doubt."""
    rig = bundle.project.rig
    draw: ParameterSample = typical_sample(rig)
    for name, value in change.items():
        if name.startswith("joint below "):
            index = rig.bed.layer_index(name.removeprefix("joint below "))
            draw.joint[index] = value
        else:
            setattr(draw, name, value)
    return bench_of(rig, bundle.project.settings, bundle.project.criteria, horizon, draw)


def height_csv(bow: float, tilt: tuple[float, float], seed: int, points: int = 7) -> bytes:
    """A height map (mm, rear row first) of a tilted, bowed plate as a probe would take it."""
    rng = np.random.default_rng(seed)
    u = np.linspace(-1.0, 1.0, points)
    x, y = np.meshgrid(u, u)
    z = 1e3 * (bow * (1.0 - 0.5 * (x**2 + y**2)) + 0.5 * tilt[0] * x + 0.5 * tilt[1] * y) + rng.normal(
        0.0, 0.004, x.shape
    )
    return ("\n".join(",".join(f"{v:.3f}" for v in row) for row in z[::-1]) + "\n").encode()


def with_session(
    bundle: Bundle, instruments: tuple[Instrument, ...], session: Session, files: dict[str, bytes]
) -> Bundle:
    """The bundle with a session and its files."""
    measurements = Measurements(instruments=instruments, sessions=(session,))
    return Bundle(bundle.project.model_copy(update={"measurements": measurements}), {**bundle.originals, **files})


def misread_imager(bundle: Bundle) -> Bundle:
    """A film that emits less than the imager is set to: it reads low, and the bed seems cold."""
    project = bundle.project
    rig, s = project.rig, project.settings
    faults = replace(
        Faults.drawn(41), emissivity=0.80, imager_offset=-0.4, probe_offset=1.4, probe_gain=0.006, stem=1.1, tape=0.947
    )
    bench = hidden(bundle, {"bias": 0.4}, 5400.0)
    probe = calibrated("Touch probe", faults, ("2025-05-06", "2026-05-02"), 7)
    rng = np.random.default_rng(5)
    at, mirror = 4800.0, celsius(24.0)
    air = float(np.interp(at, bench.time, bench.curves["air"]))
    middle = float(np.interp(at, bench.time, bench.surface(0.0, 0.0)))
    pressed = rounded(probe_shows(np.full(5, middle), faults, probe, rig.bed, air), probe, 0.12, rng)
    held = float(rounded(probe_shows(air, faults, probe, None, air), probe, 0.1, rng))
    readings = [
        Reading(instrument=DISPLAY.name, place="sensor", raw=(round(display_shows(bench, at), 2),), time=at),
        Reading(instrument=probe.name, place="upper air", time=at, raw=(held,)),
        Reading(instrument=probe.name, raw=tuple(float(v) for v in pressed), time=at, note="with a drop of paste"),
    ]
    for y in (-0.12, 0.0, 0.12):
        for x in (-0.12, 0.0, 0.12):
            true = float(np.interp(at, bench.time, bench.surface(x, y)))
            shown = rounded(
                imager_shows(np.array([true]), faults.emissivity, faults, IMAGER, mirror), IMAGER, 0.08, rng
            )
            readings.append(
                Reading(instrument=IMAGER.name, raw=(float(shown[0]),), x=x, y=y, time=at, survey="3 × 3 with the imager",
                        surface="polyetherimide_sheet", reflected=mirror)
            )  # fmt: skip
    corners = plausible_corners()
    tape = (0.09, -0.06, 0.04)
    image = imager_csv(bench, faults, IMAGER, 9, at, mirror, corners=corners, patches=(tape,))
    log = logger_csv(bench, faults, probe, 9)
    plug = plug_csv(bench, faults, 9)
    bow = thermal_bow(rig, bench.heat)
    files = {
        "boathouse-image.csv": image, "boathouse-warmup.csv": log, "boathouse-plug.csv": plug,
        "boathouse-cold.csv": height_csv(3e-5, (1.5e-4, -8e-5), 3),
        "boathouse-soaked.csv": height_csv(3e-5 + bow.end, (1.7e-4, -8e-5), 4),
    }  # fmt: skip
    session = Session(
        name="Imager on the film", date="2026-05-04", bed=s.bed_first, chamber=s.chamber, room=rig.room_temperature,
        note="The imager says that the bed is cold. The tape lies right of the middle, near the front.", rig_mark=mark_of(rig),
        readings=tuple(readings),
        logs=(
            StoredLog(name="Warm-up", file="boathouse-warmup.csv", mapping=mapped(log, "boathouse-warmup.csv", probe, PLUG)),
            StoredLog(name="Plug", file="boathouse-plug.csv", mapping=mapped(plug, "boathouse-plug.csv", probe, PLUG)),
        ),
        images=(
            StoredImage(
                name="Soaked bed", file="boathouse-image.csv", instrument=IMAGER.name, corners=corners, reflected=mirror, time=at
            ),
        ),
        heights=(
            StoredHeights(name="Cold", file="boathouse-cold.csv", state="cold", width=0.28, depth=0.27),
            StoredHeights(name="Soaked", file="boathouse-soaked.csv", state="soaked", width=0.28, depth=0.27),
        ),
    )  # fmt: skip
    return with_session(bundle, (probe, IMAGER, DISPLAY, PLUG), session, files)


def air_gap(bundle: Bundle) -> Bundle:
    """Glass that touches its carrier at the clips only: a gap of air where a joint was believed."""
    project = bundle.project
    rig, s = project.rig, project.settings
    faults = replace(Faults.drawn(17), probe_offset=-0.9, probe_gain=0.004, stem=0.9)
    bench = hidden(bundle, {"joint below glass": 60.0}, 4200.0)
    probe = calibrated("Fine wire", faults, ("2026-04-11",), 8, stem_conductance=2e-4, tip_radius=0.0012)
    log = logger_csv(bench, faults, probe, 12, comma=True)
    plug = plug_csv(bench, faults, 12, every=20.0)
    files = {"windowsill-warmup.csv": log, "windowsill-plug.csv": plug}
    session = Session(
        name="Cold glass", date="2026-04-12", bed=s.bed_first, chamber=s.chamber, room=rig.room_temperature,
        note="The first layer does not stick although the display is right.", rig_mark=mark_of(rig),
        logs=(
            StoredLog(name="Warm-up", file="windowsill-warmup.csv", mapping=mapped(log, "windowsill-warmup.csv", probe, PLUG)),
            StoredLog(name="Plug", file="windowsill-plug.csv", mapping=mapped(plug, "windowsill-plug.csv", probe, PLUG)),
        ),
    )  # fmt: skip
    return with_session(bundle, (probe, DISPLAY, PLUG), session, files)


def leaky_chamber(bundle: Bundle) -> Bundle:
    """A door seal that leaks: the chamber takes long and the heaters never rest."""
    project = bundle.project
    rig, s = project.rig, project.settings
    faults = replace(Faults.drawn(23), probe_offset=0.6, probe_gain=-0.003, stem=1.0, base_load=31.0)
    bench = hidden(bundle, {"leakage": 9.0}, 9000.0)
    probe = calibrated("Chamber probe", faults, ("2026-02-03",), 9)
    log = logger_csv(bench, faults, probe, 15, every=20.0)
    plug = plug_csv(bench, faults, 15, every=60.0, idle=600.0, energy=True)
    files = {"kiln-warmup.csv": log, "kiln-energy.csv": plug}
    session = Session(
        name="Chamber never rests", date="2026-03-20", bed=s.bed_first, chamber=s.chamber, room=rig.room_temperature,
        note="The chamber gets there late, and the meter runs.", rig_mark=mark_of(rig),
        logs=(
            StoredLog(name="Warm-up", file="kiln-warmup.csv", mapping=mapped(log, "kiln-warmup.csv", probe, PLUG)),
            StoredLog(name="Energy", file="kiln-energy.csv", mapping=mapped(plug, "kiln-energy.csv", probe, PLUG)),
        ),
    )  # fmt: skip
    return with_session(bundle, (probe, DISPLAY, PLUG), session, files)
