"""Makes the demo of Mandorla: a made-up workshop, its rig and its part, as shipped under src/mandorla/data/demo.

The part is modelled with a general-purpose solid library and written by it. Run it with ``make demo-files``, or with a folder
to write to.
"""

from __future__ import annotations

import sys
from pathlib import Path

import manifold3d as m3
import numpy as np
from demo_cases import write_cases
from demo_parts import write_parts
from demo_run import half_done
from demo_sessions import air_gap, leaky_chamber, misread_imager

from mandorla.core.part.plates import Plate, PlateSide
from mandorla.core.part.process import PartSource, Placement, Process
from mandorla.core.part.solid_file import read_solid_file
from mandorla.core.project.models import Project
from mandorla.core.project.store import Bundle, write_bundle
from mandorla.core.rig.bed import Bed, BedLayer, ContactSpot, Control, Fuse, Heater, Outline, Sensor, Zone
from mandorla.core.rig.chamber import Chamber, panel_of, panels_of
from mandorla.core.rig.consumers import Consumer, Plug, Spread
from mandorla.core.rig.model import Limits, Rig
from mandorla.core.rig.room import Room
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.run.model import RunPlan, Spool, StepEdit
from mandorla.core.units import celsius

TARGET = Path(__file__).resolve().parents[1] / "src" / "mandorla" / "data" / "demo"


ON = {"idle": 1.0, "warm_up": 1.0, "soak": 1.0, "printing": 1.0, "cool_down": 1.0}


def consumer(
    key: str, name: str, power: float, within: float, inside: float, upper: float, **states: float
) -> Consumer:
    """A consumer known to a share of its power (W)."""
    ends = {"power_low": power * (1.0 - within), "power": power, "power_high": power * (1.0 + within)}
    return Consumer(key=key, name=name, inside=inside, upper=upper, **ends, **states)


def rounded(width: float, depth: float, radius: float) -> m3.CrossSection:
    """A rectangle with rounded corners, centred."""
    core = m3.CrossSection.square((width - 2 * radius, depth - 2 * radius), True)
    return core.offset(radius, m3.JoinType.Round, circular_segments=48)


def winch_cradle() -> m3.Manifold:
    """A cradle for a small boat winch: a long tray with two saddles and bolt holes (mm)."""
    tray = rounded(236.0, 84.0, 7.0).extrude(34.0) - rounded(228.0, 76.0, 4.0).extrude(40.0).translate((0, 0, 5.0))
    saddle = m3.Manifold.cube((14.0, 80.0, 47.0), True).translate((0, 0, 23.5))
    drum = m3.Manifold.cylinder(60.0, 27.0, 27.0, 96, True).rotate((0, 90, 0)).translate((0, 0, 50.0))
    body = tray
    for x in (-52.0, 61.0):
        body = body + (saddle - drum).translate((x, 0, 0))
    hole = m3.Manifold.cylinder(12.0, 3.4, 3.4, 48)
    for x in (-106.0, 106.0):
        for y in (-30.0, 30.0):
            body = body - hole.translate((x, y, -1.0))
    return body


def stl_bytes(body: m3.Manifold) -> bytes:
    """Binary STL of a solid."""
    mesh = body.to_mesh()
    corners = np.asarray(mesh.vert_properties)[:, :3][np.asarray(mesh.tri_verts)].astype("<f4")
    record = np.zeros(len(corners), dtype=[("n", "<f4", 3), ("c", "<f4", (3, 3)), ("a", "<u2")])
    record["c"] = corners
    return b"winch cradle, made for the demo".ljust(80) + len(corners).to_bytes(4, "little") + record.tobytes()


def workshop_plates() -> tuple[Plate, ...]:
    """Five plates with a story: one side that is worn out, one plate that never lay flat."""
    textured, smooth = "polyetherimide_textured", "polyetherimide_smooth"
    return (
        Plate(
            key="slipway", name="Slipway sheet", body="sheet_with_film", front=PlateSide(surface=textured, prints=9),
            back=PlateSide(surface=smooth), notes="Bought when the old one gave out.",
        ),
        Plate(
            key="old-sheet", name="Old sheet", body="sheet_with_film", front=PlateSide(surface=textured, prints=640, worn=0.8),
            back=PlateSide(surface=smooth, prints=45),
            notes="The first cradles came off its front, in the middle, where every print stands; its back was never used up.",
        ),
        Plate(
            key="hall-mirror", name="Hall mirror", body="mirror_tile", front=PlateSide(surface="bare_glass", prints=60),
            back=PlateSide(surface="mirror_back", prints=15),
            notes="One corner stood on the rear stop for weeks: everything at the front right was too near the nozzle.",
        ),
        Plate(
            key="chart-glass", name="Chart glass", body="tempered_glass", thickness=0.005,
            front=PlateSide(surface="bare_glass", prints=210), back=PlateSide(surface="bare_glass", prints=3),
            notes="Off a chart table; 0.2 mm hollow in the middle. Glue film for PETG, always.",
        ),
        Plate(
            key="green-sheet", name="Green sheet", body="bare_sheet",
            front=PlateSide(surface="tacky_pla_petg", prints=38), back=PlateSide(surface="tacky_sheet", prints=0),
            notes="For small PLA kits without a heated bed.",
        ),
    )  # fmt: skip


def boathouse_rig() -> Rig:
    """An enclosed 340 mm machine in a cool boathouse, chamber heater included."""
    layers = (
        BedLayer(name="Print film", material="polyetherimide_film", thickness=0.00013, joint="adhesive", contact_resistance=1e-4),
        BedLayer(
            name="Flex sheet", material="spring_steel", thickness=0.0006, joint="magnetic", contact_resistance=3e-4, bonded=False
        ),
        BedLayer(name="Magnet", material="magnet_sheet", thickness=0.0015, joint="adhesive", contact_resistance=1e-4),
        BedLayer(name="Tooling plate", material="cast_aluminium", thickness=0.0075, joint="adhesive", contact_resistance=1e-4),
        BedLayer(
            name="Heater mat", material="silicone_mat", thickness=0.0015, joint="silicone", contact_resistance=2.5e-4,
            outline=Outline(width=0.31, depth=0.30),
        ),
        BedLayer(name="Foam", material="silicone_foam", thickness=0.007),
    )  # fmt: skip
    corner = {"layer": "Tooling plate", "diameter": 0.02, "conductance": 0.06}
    bed = Bed(
        width=0.34, depth=0.33, layers=layers,
        heater=Heater(layer="Heater mat", width=0.31, depth=0.30, power=620.0, mains=True),
        sensor=Sensor(layer="Tooling plate", depth_fraction=0.6, bias=0.0, time_constant=6.0),
        fuses=(Fuse(layer="Heater mat", rating=celsius(152.0)), Fuse(layer="Tooling plate", rating=celsius(112.0))),
        spots=tuple(ContactSpot(x=x, y=y, **corner) for x, y in ((-0.15, -0.145), (0.15, -0.145), (0.0, 0.15))),
        mounts="corners",
    )  # fmt: skip
    panels = panels_of("single").model_copy(update={"front": panel_of("pane"), "floor": panel_of("steel")})
    chamber = Chamber(
        enclosed=True, width=0.56, depth=0.54, height=0.52, bed_height=0.3, panels=panels, air_changes=5.0 / 3600,
        exhaust_flow=18.0 / 3600, exhaust_fraction=0.15, heater_power=350.0, circulation=0.4, circulation_flow=36.0 / 3600,
        internal_mass=7500.0, internal_area=0.7,
    )  # fmt: skip
    limits = Limits(bed_max=celsius(115.0), chamber_max=celsius(72.0), supply_power=1600.0, layer_margin=10.0)
    return Rig(
        name="Boathouse 340", room_temperature=celsius(17.0), draft=0.05, bed=bed, chamber=chamber, limits=limits,
        plug=Plug(consumers=(
            consumer("electronics", "Controller and display", 11.0, 0.3, 0.4, 0.0, off=0.05, **ON),
            consumer("drives", "Motors and drives", 42.0, 0.35, 0.8, 0.5, warm_up=0.6, soak=0.6, printing=1.0),
            consumer("fans", "Part and hot-end fans", 6.0, 0.4, 1.0, 1.0, printing=1.0),
            consumer("circulation", "Circulation fan", 9.0, 0.3, 1.0, 0.5, warm_up=1.0, soak=1.0, printing=1.0),
            consumer("lights", "Light strip", 5.0, 0.3, 1.0, 1.0, idle=0.0, warm_up=1.0, soak=1.0, printing=1.0),
        )),
    )  # fmt: skip


def windowsill_rig() -> Rig:
    """A small open frame whose bed moves, at low voltage, by a window."""
    layers = (
        BedLayer(
            name="Glass", material="borosilicate_glass", thickness=0.003, joint="clipped", contact_resistance=3e-4, bonded=False,
            outline=Outline(width=0.17, depth=0.16),
        ),
        BedLayer(name="Carrier", material="cast_aluminium", thickness=0.003, joint="adhesive", contact_resistance=1e-4),
        BedLayer(
            name="Trace board", material="glass_fibre_laminate", thickness=0.0016, joint="laid", contact_resistance=5e-4,
            bonded=False,
        ),
        BedLayer(name="Cork", material="cork", thickness=0.004),
    )  # fmt: skip
    bed = Bed(
        width=0.18, depth=0.17, layers=layers,
        heater=Heater(
            layer="Trace board", kind="trace", width=0.17, depth=0.16, power=150.0, mains=False, voltage=24.0,
            resistance_coefficient=0.0039,
        ),
        sensor=Sensor(layer="Trace board", depth_fraction=0.5, bias=1.0, time_constant=8.0),
        control=Control(kind="on-off", hysteresis=1.5),
        fuses=(Fuse(layer="Trace board", rating=celsius(125.0)),), moves=True, mounts="corners",
    )  # fmt: skip
    limits = Limits(bed_max=celsius(90.0), supply_power=160.0, low_voltage_supply=240.0, breaker=10.0)
    return Rig(
        name="Windowsill 180", room_temperature=celsius(19.0), draft=0.2, room=Room(draft_cooler=3.0, draft_from="left"),
        bed=bed, chamber=Chamber(enclosed=False), limits=limits,
    )  # fmt: skip


def kiln_rig() -> Rig:
    """A hot 500 mm machine: bed at 180 °C in a chamber at 120 °C, two heated zones, wool between steel sheets."""
    layers = (
        BedLayer(
            name="Steel sheet", material="stainless_steel", thickness=0.0008, joint="clipped", contact_resistance=3e-4,
            bonded=False,
        ),
        BedLayer(
            name="Thick plate", material="cast_aluminium", thickness=0.012, joint="clipped", contact_resistance=3e-4, bonded=False
        ),
        BedLayer(name="Mica heater", material="mica_laminate", thickness=0.002, joint="laid", contact_resistance=5e-4, bonded=False,
                 outline=Outline(width=0.47, depth=0.47)),
        BedLayer(name="Wool", material="mineral_wool", thickness=0.03),
    )  # fmt: skip
    zones = tuple(
        Zone(outline=Outline(width=0.225, depth=0.46, x=x), share=share) for x, share in ((-0.115, 1.0), (0.115, 1.1))
    )
    bed = Bed(
        width=0.5, depth=0.5, layers=layers,
        heater=Heater(layer="Mica heater", kind="trace", width=0.46, depth=0.46, power=1700.0, zones=zones),
        sensor=Sensor(layer="Thick plate", depth_fraction=0.5, x=0.02, bias=0.0, time_constant=10.0),
        fuses=(Fuse(layer="Mica heater", rating=celsius(280.0)), Fuse(layer="Thick plate", rating=celsius(216.0))),
        spots=(ContactSpot(kind="hole", layer="Steel sheet", x=0.2, y=0.2, diameter=0.02),), mounts="rim",
    )  # fmt: skip
    panels = panels_of("wool_lined").model_copy(update={"front": panel_of("pane")})
    chamber = Chamber(
        enclosed=True, width=0.8, depth=0.8, height=0.85, bed_height=0.25, panels=panels, air_changes=2.0 / 3600,
        exhaust_flow=30.0 / 3600, exhaust_fraction=0.1, heater_power=2200.0, circulation=0.8, circulation_flow=120.0 / 3600,
        internal_mass=14000.0, internal_area=1.4,
    )  # fmt: skip
    limits = Limits(
        bed_max=celsius(190.0), chamber_max=celsius(125.0), supply_power=4200.0, breaker=25.0, layer_margin=15.0
    )
    plug = Plug(
        consumers=(
            consumer("electronics", "Controller in its own cabinet", 28.0, 0.3, 0.0, 0.0, off=0.1, **ON),
            consumer("drives", "Servo drives", 85.0, 0.35, 0.2, 0.0, idle=0.2, warm_up=0.5, soak=0.5, printing=1.0),
            consumer("circulation", "Circulation blower", 45.0, 0.3, 0.3, 0.5, warm_up=1.0, soak=1.0, printing=1.0),
            consumer("dryer", "Filament dryer", 60.0, 0.4, 0.0, 0.0, warm_up=1.0, soak=1.0, printing=1.0),
        ),
        hot_end=Spread(low=0.07, typical=0.11, high=0.16),
    )  # fmt: skip
    return Rig(name="Kiln 500", room_temperature=celsius(21.0), bed=bed, chamber=chamber, limits=limits, plug=plug)


def main() -> int:
    """Write the demo's STL and project."""
    target = Path(sys.argv[1]) if len(sys.argv) > 1 else TARGET
    target.mkdir(parents=True, exist_ok=True)
    data = stl_bytes(winch_cradle())
    read_solid_file(data, "winch-cradle.stl", 0.001)
    (target / "winch-cradle.stl").write_bytes(data)
    write_parts(target / "parts", stl_bytes)
    project = Project(
        name="Winch cradle",
        notes="A made-up boathouse workshop: twelve cradles in ASA, the first one came off at its corners.",
        rig=boathouse_rig(),
        part=PartSource(name="Winch cradle", file="winch-cradle.stl", unit_scale=0.001, placement=Placement(x=-0.01, y=0.015)),
        process=Process(
            polymer="asa", surface="polyetherimide_textured", nozzle=0.0006, layer_height=0.0003, line_width=0.00064,
            speed=0.09, flow_limit=15e-9, walls=5, infill=0.45, solid_layers=5, plates=workshop_plates(), plate="slipway",
        ),
        settings=Settings(bed_first=celsius(100.0), bed_rest=celsius(94.0), chamber=celsius(44.0), soak_time=600.0, fan=0.1),
        criteria=Criteria(lift_limit=0.0006, price=0.31 / 3.6e6),
        run_plan=RunPlan(
            spools=(Spool(name="Grey, opened", left=0.14), Spool(name="Grey, new", left=0.75)),
            steps=(StepEdit(key="wash", done=True), StepEdit(key="seat", done=True, who="whoever locks up")),
        ),
    )  # fmt: skip
    write_bundle(target / "boathouse.mandorla", half_done(misread_imager(Bundle(project, {"winch-cradle.stl": data}))))
    small = Project(
        name="Small brackets", rig=windowsill_rig(), notes="A made-up small machine by a window that is often open.",
        settings=Settings(bed_first=celsius(65.0), bed_rest=celsius(60.0), soak_time=300.0),
    )  # fmt: skip
    write_bundle(target / "windowsill.mandorla", air_gap(Bundle(small, {})))
    hot = Project(
        name="Hot trial", rig=kiln_rig(), notes="A made-up hot machine: what must be known before it is switched on.",
        settings=Settings(bed_first=celsius(180.0), bed_rest=celsius(175.0), chamber=celsius(120.0), soak_time=3600.0),
    )  # fmt: skip
    write_bundle(target / "kiln.mandorla", leaky_chamber(Bundle(hot, {})))
    write_cases(target / "cases", boathouse_rig(), windowsill_rig(), data, stl_bytes)
    sys.stdout.write(f"demo files written: {len(data)} bytes of mesh\n")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
