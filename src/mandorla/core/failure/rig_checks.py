"""Checks of a rig with their reasons: what an experienced builder asks before buying or switching on anything.

Each check is a function registered under its key; it returns its verdict in words with the figures it rests on, or None where it
does not apply. They are computed from the quick models, and certify nothing.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise
from typing import Final

import numpy as np

from mandorla.core.errors import SolverError
from mandorla.core.failure.power_limits import low_voltage_check, mains_checks
from mandorla.core.failure.state import State, grade_low, worst_of
from mandorla.core.materials.library_data import bed_materials
from mandorla.core.rig.chamber import SIDES
from mandorla.core.rig.model import Rig
from mandorla.core.rig.schools import FAST, GENTLE, school
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.bow import flexural_rigidity, gradient_bow
from mandorla.core.thermal.faults import run_fault
from mandorla.core.thermal.fuse_choice import TOLERANCE, FuseRange, fuse_range
from mandorla.core.thermal.heatup import HeatUp, heat_up
from mandorla.core.thermal.steady import solve_steady
from mandorla.core.units import METRIC, OFF, UnitPreferences, show, show_duration, show_number

MAGNET_MARGIN: Final = (10.0, 15.0)  # K a magnet sheet should have in hand: least, good
LOAD: Final = 20.0  # N on the middle: a hand, a scraper, a large part's weight
SAG_GOOD: Final = 5e-5  # m of sag under that load that a first layer does not notice
SAG_BAD: Final = 2e-4
CLEAR_OF_GUIDES: Final = 0.003  # m that should stay free on either side of what travels
BOW_GOOD: Final = 2e-4  # m of a plate's own bow that a map and a first layer take up
ACCELERATION: Final = 3.0  # m/s², an ordinary one for a bed that moves
GRAVITY: Final = 9.80665
CORNERS: Final = (
    0.0257  # q a^4/D, square plate on its four corners (Timoshenko and Woinowsky-Krieger, table 43, nu 0.25)
)
RIM: Final = 0.00406  # q a^4/D, square plate simply supported all around (ibid., table 8)
SELF_BONDING: Final = 333.15  # K above which glass that rests on a magnet sheet may stick to it for good


@dataclass(frozen=True, slots=True)
class RigCheck:
    """One check: stable key, title, state, the verdict in a sentence, and why it matters."""

    key: str
    title: str
    state: State
    finding: str
    reason: str


@dataclass(frozen=True, slots=True)
class Case:
    """What the checks look at."""

    rig: Rig
    settings: Settings
    criteria: Criteria
    heat: HeatUp
    units: UnitPreferences
    run: RunContext

    def t(self, kelvin: float) -> str:
        """A temperature as the user reads it."""
        return show(kelvin, "temperature", self.units, digits=0)

    def d(self, kelvin: float) -> str:
        """A difference of temperatures."""
        return show(kelvin, "temperature_difference", self.units, digits=0)


Judge = Callable[[Case], tuple[State, str] | None]


@dataclass(frozen=True, slots=True)
class _Entry:
    title: str
    reason: str
    judge: Judge


CHECKS: Final[dict[str, _Entry]] = {}


def rig_check(key: str, title: str, reason: str) -> Callable[[Judge], Judge]:
    """Register a check."""

    def register(judge: Judge) -> Judge:
        CHECKS[key] = _Entry(title, reason, judge)
        return judge

    return register


def check_rig(
    rig: Rig, settings: Settings, criteria: Criteria, heat: HeatUp, units: UnitPreferences = METRIC,
    run: RunContext | None = None,
) -> tuple[RigCheck, ...]:  # fmt: skip
    """All checks that apply, the worst first. Raises :class:`Cancelled` when asked to stop."""
    case = Case(rig, settings, criteria, heat, units, run or RunContext())
    found: list[RigCheck] = []
    for key, entry in CHECKS.items():
        case.run.checkpoint(len(found) / len(CHECKS), entry.title)
        verdict = entry.judge(case)
        if verdict is not None:
            finding = verdict[1][0].upper() + verdict[1][1:]
            found.append(RigCheck(key, entry.title, verdict[0], finding, entry.reason))
    order = {State.FAILS: 0, State.MARGINAL: 1, State.HOLDS: 2, State.NOT_COMPUTED: 3}
    return tuple(sorted(found, key=lambda c: order[c.state]))


def _with_power(rig: Rig, power: float) -> Rig:
    heater = rig.bed.heater.model_copy(update={"power": power})
    limits = rig.limits.model_copy(update={"supply_power": max(rig.limits.supply_power, 1.2 * power)})
    return rig.model_copy(update={"bed": rig.bed.model_copy(update={"heater": heater}), "limits": limits})


@rig_check("power-density", "Power density",
           "More watts per area warm faster and bend the plate more on the way: the gradient through it grows with the "
           "flux.")  # fmt: skip
def _power_density(c: Case) -> tuple[State, str] | None:
    area = c.rig.bed.heater.area
    rows = []
    for density in (GENTLE, c.rig.bed.power_density, FAST):
        heat = c.heat
        if density != c.rig.bed.power_density:
            heat = heat_up(_with_power(c.rig, density * area), c.settings, c.criteria, with_bands=False)
        ready = show_duration(heat.ready_time) if np.isfinite(heat.ready_time) else "not ready in time"
        bow = show(gradient_bow(c.rig.bed, density), "bow", c.units)
        rows.append(f"{show(density, 'power_density', c.units)}: {ready}, {bow} more bow while it warms")
    density = c.rig.bed.power_density
    state = State.HOLDS if 0.6 * GENTLE <= density <= 1.6 * FAST else State.MARGINAL
    text = f"{show(density, 'power_density', c.units)} is {school(density)}. Gentle {rows[0]}; this rig {rows[1]}; fast {rows[2]}."
    return state, text


@rig_check("reach", "Highest temperature it can reach",
           "A heater that is just strong enough never gets there in a cold room, and one that reaches far more needs "
           "its fuses.")  # fmt: skip
def _reach(c: Case) -> tuple[State, str] | None:
    hottest = max(c.settings.bed_first, c.settings.bed_rest)
    try:
        free = solve_steady(c.rig, 900.0, c.settings.chamber, c.heat.stack)
    except SolverError as error:
        return State.MARGINAL, f"Not found: {error}"
    top = free.plate
    left = top - hottest
    state = State.FAILS if left < 0.0 else State.MARGINAL if left < 15.0 else State.HOLDS
    return state, (
        f"At full power for hours the plate would reach {c.t(top)} and the surface {c.t(free.surface)}: "
        f"{c.d(abs(left))} {'above' if left >= 0 else 'below'} the highest set point, {c.t(hottest)}."
    )


@rig_check("below-room", "Set point and room",
           "A bed cannot cool: a target below the room is met at once and has no effect. For an unheated plate set it just above "
           "the room, or switch the bed off.")  # fmt: skip
def _below_room(c: Case) -> tuple[State, str] | None:
    around = c.heat.steady.air
    lowest = min(c.settings.bed_first, c.settings.bed_rest)
    if lowest <= OFF:
        state = State.FAILS if c.rig.limits.insists else State.HOLDS
        passive = solve_steady(c.rig, OFF, c.settings.chamber, c.heat.stack)
        when = "The bed is off" if c.settings.bed_first <= OFF else "The bed is off after the first layers"
        text = f"{when}; without its heater the plate comes to about {c.t(passive.surface)}."
        if c.rig.limits.insists:
            text += f" This machine insists on a target: set it just above the room's {c.t(c.rig.start_temperature)}."
        return state, text
    if lowest <= c.rig.start_temperature:
        return (
            State.FAILS,
            f"{c.t(lowest)} lies at or below the room's {c.t(c.rig.start_temperature)}: it is never regulated.",
        )
    if lowest < around + 3.0:
        return (
            State.MARGINAL,
            f"{c.t(lowest)} lies within 3 K of the air around the bed ({c.t(around)}): it hardly regulates.",
        )
    return State.HOLDS, f"The lowest set point lies {c.d(lowest - around)} above the air around the bed."


@rig_check("ratings", "Ratings of the layers",
           "A layer heated above its rating ages, delaminates or chars; a magnet sheet loses its pull permanently and needs a "
           "reserve of 10 to 15 K.")  # fmt: skip
def _ratings(c: Case) -> tuple[State, str] | None:
    worst, text, least = State.HOLDS, "", np.inf
    order = (State.HOLDS, State.MARGINAL, State.FAILS)
    for layer, peak in zip(c.rig.bed.layers, c.heat.peak, strict=True):
        left = layer.properties().rating - float(peak)
        least_margin, good = (0.0, c.rig.limits.layer_margin)
        if layer.material == "magnet_sheet":
            least_margin, good = MAGNET_MARGIN
        state = State.FAILS if left < 0.0 else State.MARGINAL if left < max(least_margin, good) else State.HOLDS
        if (order.index(state), -left) > (order.index(worst), -least):
            worst, least = state, left
            over = "over its rating" if left < 0 else "in hand"
            text = f"{layer.name} sees {c.t(float(peak))} and has {c.d(abs(left))} {over}; every other layer has more."
    return worst, text


@rig_check("panels", "Panels of the chamber",
           "Sheets sag, foam outgasses and blankets smoulder above their ratings; nothing flammable belongs near a "
           "heater.")  # fmt: skip
def _panels(c: Case) -> tuple[State, str] | None:
    if not c.rig.chamber.enclosed:
        return None
    rows = []
    for i, (side, panel) in enumerate(zip(SIDES, c.rig.chamber.panels.each(), strict=True)):
        inner = float(c.heat.steady.panel_inside[i])
        rows.append((panel.rating - inner, side, inner, panel.rating))
    left, side, inner, rating = min(rows)
    state = grade_low(-left, -c.rig.limits.layer_margin, 0.0)
    return state, f"The {side} panel gets warmest for its kind: {c.t(inner)} inside, usually rated to {c.t(rating)}."


@rig_check("stiffness", "Plate: bending and mass",
           "A thin plate sags under a hand or a heavy part and bends with heat; a thick one is slow to warm and heavy "
           "to move.")  # fmt: skip
def _stiffness(c: Case) -> tuple[State, str] | None:
    bed = c.rig.bed
    side = max(bed.width, bed.depth)
    factor = RIM if bed.mounts == "rim" else CORNERS
    mass = bed.mass
    sag = factor * (LOAD + mass * GRAVITY) / bed.area * side**4 / flexural_rigidity(bed)
    plate = max(bed.layers, key=lambda layer: layer.properties().modulus * layer.thickness**3)
    per_mm = bed.area * 1e-3 * plate.properties().density
    text = (
        f"Under {LOAD:.0f} N and its own weight the middle sags {show(sag, 'bow', c.units)} "
        f"({'rim' if bed.mounts == 'rim' else 'corners'} held). The stack weighs {mass:.2f} kg, {per_mm:.2f} kg a "
        f"millimetre of {plate.name}."
    )
    if bed.moves:
        text += f" Moving it at {ACCELERATION:.0f} m/s² takes {mass * ACCELERATION:.0f} N of the drive."
    heavy = bed.moves and mass > 3.0
    state = State.FAILS if sag > SAG_BAD else State.MARGINAL if sag > SAG_GOOD or heavy else State.HOLDS
    return state, text


@rig_check("own-bow", "Plate's own bow",
           "A plate is as flat as it was made: cast plate is milled, rolled plate keeps a bow, which a map or shims "
           "have to take up and a loose sheet follows with air below it.")  # fmt: skip
def _own_bow(c: Case) -> tuple[State, str] | None:
    bed = c.rig.bed
    stiff = max(bed.layers, key=lambda layer: layer.properties().modulus * layer.thickness**3)
    flatness = bed_materials()[stiff.material].flatness if stiff.own is None else None
    if flatness is None:
        return None
    side = max(bed.width, bed.depth)
    low, typical, high = (side * v for v in (flatness.low, flatness.typical, flatness.high))
    text = (
        f"{stiff.name}, {bed_materials()[stiff.material].name.lower()}: {show(typical, 'bow', c.units)} over its length "
        f"as it comes ({show_number(low, 'bow', c.units)} to {show(high, 'bow', c.units)}); a first layer "
        "takes up about a tenth of a millimetre."
    )
    return (State.MARGINAL if typical > BOW_GOOD else State.HOLDS), text


@rig_check("guides", "Room between the guides",
           "A sheet or a pane that is wider than what it travels through strikes stops, clips or uprights at the end of its way; "
           "warm it is a little wider than cold.")  # fmt: skip
def _guides(c: Case) -> tuple[State, str] | None:
    bed, room = c.rig.bed, c.rig.limits.guide_width
    if room <= 0.0:
        return None
    widest = max(range(len(bed.layers)), key=lambda i: bed.outline_of(i).width)
    layer, width = bed.layers[widest], bed.outline_of(widest).width
    hot = width * (1.0 + layer.properties().expansion * (float(c.heat.peak[widest]) - c.rig.room_temperature))
    left = room - hot
    text = f"{layer.name} is {show(hot, 'large_length', c.units)} wide when hot"
    if left < 0.0:
        return State.FAILS, f"{text}, {show(-left, 'large_length', c.units)} more than the guides leave."
    state = State.MARGINAL if left < 2.0 * CLEAR_OF_GUIDES else State.HOLDS
    return state, f"{text}: {show(0.5 * left, 'large_length', c.units)} stay free on either side."


@rig_check("drive", "Moved mass and acceleration",
           "A bed that moves carries its whole stack: force over mass is the most it can be accelerated with, and short lines take "
           "longer with less.")  # fmt: skip
def _drive(c: Case) -> tuple[State, str] | None:
    bed, force = c.rig.bed, c.rig.limits.drive_force
    if not bed.moves or force <= 0.0:
        return None
    mass = bed.mass
    text = f"{show(force, 'force', c.units)} move the stack of {show(mass, 'mass', c.units)} with at most {force / mass:.1f} m/s²."
    return (State.MARGINAL if force / mass < ACCELERATION else State.HOLDS), text


@rig_check("supply", "Current, breaker and supply",
           "A breaker or a supply that runs for hours should carry no more than 80 % of its rating. Local electrical code and a "
           "qualified electrician decide.")  # fmt: skip
def _supply(c: Case) -> tuple[State, str] | None:
    bed, limits = c.rig.bed.heater, c.rig.limits
    checks, low = mains_checks(c.rig, c.settings, c.heat.steady), low_voltage_check(c.rig)
    parts, states = [], [check.state for check in (*checks, *((low,) if low is not None else ()))]
    if not bed.mains:
        share = bed.power / limits.low_voltage_supply if limits.low_voltage_supply > 0.0 else np.inf
        parts.append(
            f"the bed takes {bed.current:.1f} A at {bed.voltage:.0f} V"
            + (f", {100 * share:.0f} % of its supply" if np.isfinite(share) else "; no low-voltage supply is stated")
        )
        if not np.isfinite(share):
            states.append(State.FAILS)
    parts += [
        f"{check.reason} take {show(check.value, check.kind, c.units)} of the {check.name.lower()}'s "
        f"{show(check.limit, check.kind, c.units)}"
        for check in checks
    ]  # fmt: skip
    text = "; ".join(parts)
    return worst_of(*states), text + "."


@rig_check("earth", "Earth",
           "A worn wire on mains makes a bare metal plate live. An earthed plate, a strain relief and a "
           "residual-current device are "
           "usual; local code and a qualified electrician decide.")  # fmt: skip
def _earth(c: Case) -> tuple[State, str] | None:
    if not c.rig.bed.heater.mains:
        return None
    if c.rig.bed.earthed:
        return State.HOLDS, "The heater runs on mains and the plate is stated to be earthed: have that measured."
    return State.FAILS, "The heater runs on mains and the plate is not earthed."


@rig_check("fuses", "Thermal fuses",
           "A fuse must lie above what normal use reaches and open before anything is damaged. One on the plate does not see a mat "
           "that comes off; one on the mat trips early in a fast warm-up.")  # fmt: skip
def _fuses(c: Case) -> tuple[State, str] | None:
    bed = c.rig.bed
    if not bed.fuses:
        state = State.FAILS if bed.heater.mains else State.MARGINAL
        advised = fuse_range(c.rig, c.settings, c.criteria, c.heat, bed.heater.layer, c.run.silent())
        return (
            state,
            f"There is none, nothing but the controller ends a fault of the controller; {_rating_for(c, advised)}.",
        )
    texts, states = [], []
    for fuse in bed.fuses:
        fits = fuse_range(c.rig, c.settings, c.criteria, c.heat, fuse.layer, c.run.silent())
        over, joint = fuse.rating - fits.normal, fits.worst_joint - fits.normal
        trips = any(t.key == fuse.layer and t.rating == fuse.rating for t in c.heat.trips)
        states.append(
            State.FAILS if trips or over < 3.0 else State.MARGINAL if fuse.rating < fits.least else State.HOLDS
        )
        what = "opens in the warm-up without any fault" if trips else (
            f"{c.d(over)} above its hottest moment of warm-up and regulation, of which a bad joint takes {c.d(joint)} and its "
            f"own tolerance {c.d(TOLERANCE)}"
        )  # fmt: skip
        texts.append(f"{c.t(fuse.rating)} on {fits.layer}, {what}; {_rating_for(c, fits)}")
    for key, what in (("relay-on", "a relay stuck on"), ("mat-loose", "a mat coming off")):
        if key == "mat-loose" and bed.layer_index(bed.heater.layer) == 0:
            continue
        run = run_fault(c.rig, c.settings, c.criteria, key, "holding", run=c.run.silent())
        if run.nuisance:
            continue
        if run.damaged:
            first = run.first_fuse
            late = "no fuse opens" if first is None else "the fuse opens too late"
            texts.append(f"with {what} {late}: {run.damaged[0]} passes its rating")
            states.append(State.FAILS)  # as the fault itself is judged: too late is too late
        else:
            texts.append(f"with {what} nothing passes its rating")
            states.append(State.HOLDS)
    text = "; ".join(texts)
    return worst_of(*states), text + "."


def _rating_for(c: Case, fits: FuseRange) -> str:
    """Which rating would do on a layer, in words."""
    if not fits.possible:
        return f"no rating on {fits.layer} opens in time and not in normal use: {c.t(fits.least)} would be the least"
    most = f"{c.t(fits.least)} to {c.t(fits.most)}" if np.isfinite(fits.most) else f"{c.t(fits.least)} and more"
    return f"alone, a fuse on {fits.layer} wants {most}"


@rig_check("bonds", "Surfaces that bond permanently",
           "Hot glass left on a magnet sheet or on tacky film can stick so that it only comes off in pieces; lay a thin "
           "sheet between "
           "them, or take it off while warm, with gloves.")  # fmt: skip
def _bonds(c: Case) -> tuple[State, str] | None:
    layers = c.rig.bed.layers
    for i, (upper, lower) in enumerate(pairwise(layers)):
        if upper.material.endswith("glass") and lower.material == "magnet_sheet" and not upper.bonded:
            peak = max(float(c.heat.peak[i]), float(c.heat.peak[i + 1]))
            state = State.MARGINAL if peak > SELF_BONDING else State.HOLDS
            return state, f"{upper.name} rests on {lower.name} at up to {c.t(peak)}."
    return None


@rig_check("sensor-place", "Place of the sensor",
           "The display shows the sensor, not the surface. In or under the mat it reads the mat and the bed is colder "
           "than shown.")  # fmt: skip
def _sensor_place(c: Case) -> tuple[State, str] | None:
    bed = c.rig.bed
    gap = c.heat.offset
    side = "below" if gap >= 0 else "above"
    where = f"The sensor sits in {bed.layer(bed.sensor.layer).name}; the soaked surface is {c.d(abs(gap))} {side} the set point."
    return (State.MARGINAL if bed.sensor.layer == bed.heater.layer or abs(gap) > 12.0 else State.HOLDS), where


@rig_check("enclosure", "Heat in the enclosure",
           "Motors, electronics and magnets inside have ratings of their own; fumes need a way out, and a closed hot "
           "box should not run "
           "unattended without a cut-out of its own.")  # fmt: skip
def _enclosure(c: Case) -> tuple[State, str] | None:
    if not c.rig.chamber.enclosed:
        return None
    air, limit = c.heat.steady.air, c.rig.limits.chamber_max
    low = c.heat.steady.lower_air
    vented = c.rig.chamber.exhaust_flow * c.rig.chamber.exhaust_fraction + c.rig.chamber.vent_area > 0.0
    way = "an exhaust or vents carry fumes away" if vented else "there is neither exhaust nor vent for the fumes"
    state = grade_low(air, limit, limit + 0.5)
    if state is State.HOLDS and not vented:
        state = State.MARGINAL
    return state, f"The air settles at {c.t(air)} above and {c.t(low)} below, the limit is {c.t(limit)}; {way}."
