"""Rigs to test with: one fixed enclosed rig, one open one, and random ones drawn within what people build."""

from __future__ import annotations

import numpy as np
from hypothesis import strategies as st

from mandorla.core.rig.bed import Bed, BedLayer, Control, Heater, Sensor
from mandorla.core.rig.chamber import Chamber
from mandorla.core.rig.model import Limits, Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.units import celsius


def stack_layers(sheet: str = "spring_steel", plate: float = 0.008, foam: float = 0.006) -> tuple[BedLayer, ...]:
    """Film, sheet, magnet, plate, mat and foam."""
    return (
        BedLayer(name="film", material="polyetherimide_film", thickness=0.00015, contact_resistance=1e-4),
        BedLayer(name="sheet", material=sheet, thickness=0.0005, contact_resistance=3e-4, bonded=False),
        BedLayer(name="magnet", material="magnet_sheet", thickness=0.0012, contact_resistance=1e-4),
        BedLayer(name="plate", material="cast_aluminium", thickness=plate, contact_resistance=1e-4),
        BedLayer(name="mat", material="silicone_mat", thickness=0.0015, contact_resistance=2e-4),
        BedLayer(name="foam", material="silicone_foam", thickness=foam),
    )


def make_rig(
    *, width: float = 0.3, depth: float = 0.28, power: float = 550.0, enclosed: bool = True, chamber_heater: float = 0.0,
    room: float = 21.0, plate: float = 0.008, foam: float = 0.006, air_changes: float = 5.0, circulation: float = 0.0,
    kind: str = "steady", bias: float = 0.0,
) -> Rig:  # fmt: skip
    """A rig from the figures that tests vary."""
    return Rig(
        name="Test rig",
        room_temperature=celsius(room),
        bed=Bed(
            width=width, depth=depth, layers=stack_layers(plate=plate, foam=foam),
            heater=Heater(layer="mat", width=0.9 * width, depth=0.9 * depth, power=power),
            sensor=Sensor(layer="plate", depth_fraction=0.5, bias=bias), control=Control(kind=kind),
        ),
        chamber=Chamber(
            enclosed=enclosed, width=width + 0.2, depth=depth + 0.2, height=0.5, air_changes=air_changes / 3600,
            heater_power=chamber_heater, circulation=circulation,
        ),
        limits=Limits(bed_max=celsius(150.0), chamber_max=celsius(90.0), supply_power=5000.0),
    )  # fmt: skip


def settings(bed: float = 95.0, chamber: float = 45.0, rest: float | None = None, soak: float = 300.0) -> Settings:
    """Settings in degrees Celsius."""
    return Settings(
        bed_first=celsius(bed),
        bed_rest=celsius(bed if rest is None else rest),
        chamber=celsius(chamber),
        soak_time=soak,
    )


@st.composite
def random_rigs(draw: st.DrawFn) -> Rig:
    """Rigs of 180-500 mm with 0.25-1.2 W/cm², open or enclosed, with or without a chamber heater."""
    width, depth = draw(st.floats(0.18, 0.5)), draw(st.floats(0.18, 0.5))
    density = draw(st.floats(0.25, 1.2))
    return make_rig(
        width=width,
        depth=depth,
        power=density * 1e4 * 0.81 * width * depth,
        enclosed=draw(st.booleans()),
        chamber_heater=draw(st.sampled_from([0.0, 300.0, 900.0])),
        room=draw(st.floats(4.0, 35.0)),
        plate=draw(st.floats(0.003, 0.012)),
        foam=draw(st.floats(0.002, 0.02)),
        air_changes=draw(st.floats(0.5, 40.0)),
        circulation=draw(st.sampled_from([0.0, 0.3, 1.5])),
        kind=draw(st.sampled_from(["steady", "on-off"])),
        bias=draw(st.floats(-3.0, 3.0)),
    )


def drawn_rig(rng: np.random.Generator) -> tuple[Rig, Settings]:
    """A random rig as people build them, strong enough for its settings, for comparisons of the two models."""
    width, depth = rng.uniform(0.18, 0.5, 2)
    rig = make_rig(
        width=width, depth=depth, power=rng.uniform(0.3, 1.0) * 1e4 * 0.81 * width * depth, enclosed=bool(rng.integers(2)),
        chamber_heater=float(rng.choice([0.0, 400.0])), room=rng.uniform(10.0, 30.0), plate=rng.uniform(0.004, 0.012),
        foam=rng.uniform(0.003, 0.02), air_changes=rng.uniform(1.0, 20.0), circulation=float(rng.choice([0.0, 0.5])),
    )  # fmt: skip
    return rig, settings(rng.uniform(60.0, 110.0), rng.uniform(30.0, 60.0))
