"""The run sheet: every step of a print in its order, with its reason, how long it takes, its gate, and what it may hurt."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.failure.registry import Judgement
from mandorla.core.materials.library_data import Polymer
from mandorla.core.part.process import Process
from mandorla.core.part.removal import RemovalStep
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Criteria, Settings
from mandorla.core.run.model import RunPlan
from mandorla.core.run.touch import GRASPED, burns_at, touched
from mandorla.core.thermal.cool_down import CoolDown
from mandorla.core.tune.operating_point import Evaluation
from mandorla.core.units import METRIC, OFF, UnitPreferences, show, show_duration

_PAPER: Final = 373.15  # K from which a metal feeler takes the place of paper
_GLOVES: Final = 321.15  # K of a plate that is leaned on for minutes
_FIRST_LOOKS: Final = 3  # layers that are watched
_JAM: Final = 0.05  # of the mass, kept for a jam and the start
_LOOK: Final = 300.0  # s that somebody looks
# what is known to leave hot polymers into the air; ventilation where anything does
_FUMES: Final[Mapping[str, str]] = {
    "abs": "styrene and fine particles", "asa": "styrene and fine particles", "hips": "styrene and fine particles",
    "abs_gf": "styrene, fine particles and glass fibres", "pc_abs": "styrene and fine particles", "pc": "fine particles",
    "pa6": "caprolactam and fine particles", "pa6_gf": "caprolactam, fine particles and glass fibres", "pa12": "fine particles",
}  # fmt: skip


class Step(NamedTuple):
    """One step: stable ``key``, ``phase``, title, what is done, why, until when (the ``gate``), seconds that it takes (low,
    typical, high; of a look while it prints: after the first layers), whether somebody has to be there, the ``caution``."""

    key: str
    phase: str
    title: str
    what: str
    why: str
    gate: str = ""
    takes: tuple[float, float, float] = (0.0, 0.0, 0.0)
    attended: bool = True
    caution: str = ""
    who: str = ""
    done: bool = False
    left_out: bool = False


class SheetOf(NamedTuple):
    """What a sheet is made from: the state, its evaluation and judgement, seconds until ready (low, typical, high), until the
    plate's bow has settled, how the part comes off, the cool-down, the temperature (K) at which it lets go (NaN: it does not)."""

    rig: Rig
    settings: Settings
    process: Process
    criteria: Criteria
    evaluation: Evaluation
    judgement: Judgement
    ready: tuple[float, float, float]
    settles: float
    removal: Sequence[RemovalStep]
    cool: CoolDown
    lets_go: float


PRINT_WITHIN: Final = 0.08  # of a print's time, 90 %: what planned times are off by (practice, unchecked)


def sheet(of: SheetOf, plan: RunPlan, prefs: UnitPreferences = METRIC) -> tuple[Step, ...]:
    """Every step in its order, as the plan has edited it."""
    steps = [*_before(of, prefs), *_heating(of, prefs), *_printing(of, prefs), *_after(of, prefs)]
    found = []
    for step in steps:
        edit = plan.edit(step.key)
        found.append(step._replace(
            what=edit.words or step.what, who=edit.who, done=edit.done, left_out=edit.left_out
        ))  # fmt: skip
    return tuple(found)


def _minutes(low: float, typical: float, high: float) -> tuple[float, float, float]:
    return 60.0 * low, 60.0 * typical, 60.0 * high


def _before(of: SheetOf, prefs: UnitPreferences) -> list[Step]:
    p, polymer, part = of.process, of.process.material(), of.evaluation.part
    assert part is not None
    mass = show(part.plan.mass * (1.0 + _JAM), "mass", prefs)
    return [
        _wash(p),
        *_release_layer(p, polymer),
        Step(
            "seat", "before", "Seat the plate",
            "Wipe the plate's underside and the seat; lay the plate against its stops; press on every corner and run a feeler of "
            f"{show(0.0001, 'length', prefs)} round the edge.",
            "A crumb or a corner on a stop is a gap: the first layer is too near there, heat does not come through, and a magnet "
            "holds little.",
            "no corner moves when pressed, the feeler goes in nowhere", _minutes(1, 3, 5),
        ),
        Step(
            "dry", "before", "Dry the filament", polymer.moisture,
            "Water in the filament boils in the nozzle: strings, holes, weak layers.", takes=(0.0, 0.0, 0.0), attended=False,
        ),
        Step(
            "filament", "before", "Enough filament",
            f"{mass} are needed, {100 * _JAM:.0f} % for the start and a jam included.",
            "A print that runs out in the night stands still on a warm plate, or goes on without laying anything.",
            "the spools at hand hold more", _minutes(1, 2, 5),
        ),
        Step(
            "air", "before", "Ventilation",
            "Vent to the outside or filter; nobody sleeps in the room." if p.polymer in _FUMES else "Air the room as usual.",
            f"{polymer.name} gives off {_FUMES.get(p.polymer, 'fine particles, little else that is known')} while it is hot.",
            takes=_minutes(0, 1, 2),
            caution="A filter does not replace fresh air; local rules decide." if p.polymer in _FUMES else "",
        ),
    ]  # fmt: skip


def _wash(p: Process) -> Step:
    surface, on = p.on_top.surface, p.on_top
    tacky = "tacky" in surface.key
    if tacky:
        what = "Wash with water and a drop of dish soap, let it dry in the air; no alcohol, no cloth that leaves lint."
        why = "The tacky layer holds by being clean and soft; alcohol hardens some of them."
    else:
        what = (
            "Wash with hot water and dish soap, rinse, dry with a fresh paper towel, and touch it at the edges only; or, between "
            "prints, wipe with clean alcohol (90 % or more) on a fresh towel."
        )
        why = (
            "Two schools: soap takes off grease, sugar and salt of fingers; alcohol dissolves grease and spreads what it does not "
            "carry off. Most plates that “do not hold” are washed plates away from holding."
        )
    if on.coating is not None:
        what += f" Then put {on.coating.name[0].lower()}{on.coating.name[1:]} on, thin and even, and let it dry."
    if surface.key == "polyetherimide_smooth" and on.coating is None:
        why += " A new smooth film is rubbed lightly with a fine pad once, and cleaned."
    return Step(
        "wash", "before", "Prepare the plate", what, why, "dry, no fingerprint in the light", _minutes(3, 6, 12)
    )


def _release_layer(p: Process, polymer: Polymer) -> list[Step]:
    on = p.on_top
    if p.polymer not in on.surface.too_strong or (on.coating is not None and on.coating.protects):
        return []
    return [Step(
        "release", "before", "A release layer", "Put a thin layer of glue or release between plate and part.",
        f"{polymer.name} bonds to {on.surface.name} more strongly than the surface holds together: pieces come off with the part.",
        "even and dry", _minutes(2, 4, 8),
    )]  # fmt: skip


def _heating(of: SheetOf, prefs: UnitPreferences) -> list[Step]:
    s, rig, heat = of.settings, of.rig, of.evaluation.heat
    bed, air = show(s.bed_first, "set_point", prefs, digits=0), show(s.chamber, "temperature", prefs, digits=0)
    chamber = f", chamber to {air}" if rig.heats_chamber else ""
    found = [Step(
        "heat", "heat", "Switch on and heat",
        f"Bed to {bed}{chamber}; doors shut, nothing on the plate.",
        "From here on the machine is hot: it is not left before it has been seen to regulate.",
        f"the sensor reads {bed} and stays" if s.bed_first > OFF else "the machine is on", of.ready, attended=True,
        caution="Mains bed, hot surfaces: earthed, fused, a smoke alarm in the room. Smoke or smell: switch off at the plug.",
    )]  # fmt: skip
    drift = show(of.criteria.ready_drift, "drift", prefs)
    calm = ["the plate's surface drifts by less than " + drift]
    if rig.chamber.enclosed:
        calm += ["the chamber's air is calm for ten minutes", "frame and walls no longer warm up"]
    lag = max(heat.frame_ready_time - heat.ready_time, 0.0) if math.isfinite(heat.frame_ready_time) else s.soak_time
    if s.soak_time > 0.0 or rig.chamber.enclosed:
        found.append(Step(
            "soak", "heat", "Soak until it is calm", f"Wait some {show_duration(s.soak_time)}, and until the readings say so.",
            "By the readings, not by the clock: a cold room or a cold frame makes it longer, and the plate bows until it is done.",
            "; ".join(calm), (0.5 * s.soak_time, s.soak_time, max(1.5 * s.soak_time, s.soak_time + 0.5 * lag)), attended=False,
        ))  # fmt: skip
    hot = s.bed_first >= _PAPER
    settles = f" The plate's bow settles after {show_duration(of.settles)}." if math.isfinite(of.settles) else ""
    found.append(Step(
        "level", "heat", "Level and map hot",
        ("Metal feeler" if hot else "Paper or feeler") + f" of {show(0.0001, 'length', prefs)}: middle, then corner by corner "
        "across, twice round; then the map.",
        f"Cold it is another plate.{settles}"
        + (" Paper browns and shrinks on a plate this hot, and reads too thick." if hot else ""),
        "two rounds agree within two hundredths", _minutes(5, 12, 25),
        caution="Gloves and a long handle: the plate burns at a touch." if s.bed_first >= _GLOVES else "",
    ))  # fmt: skip
    return found


def _printing(of: SheetOf, prefs: UnitPreferences) -> list[Step]:
    e, p = of.evaluation, of.process
    part = e.part
    assert part is not None
    clock = np.concatenate([[0.0], np.cumsum(part.column.time)])
    first = float(np.interp(_FIRST_LOOKS * p.layer_height, np.concatenate([[0.0], part.column.top]), clock))
    speed = show(p.first_speed, "speed", prefs, digits=0)
    reach = p.full_speed_from
    acceleration = show(p.first_acceleration or p.acceleration, "acceleration", prefs, digits=0)
    found = [Step(
        "first", "print", "First layers",
        "Look along the plate from the side: lines flat and joined, no gap between them, none ploughed. Gaps: nozzle nearer by two "
        "hundredths; ripples and ridges: farther.",
        f"{speed} at {acceleration}: lines shorter than {show(2.0 * reach, 'length', prefs)}, letters and corners, never reach it. "
        "What does not hold now will not hold later.",
        f"{_FIRST_LOOKS} layers lie as they should", (0.9 * first, first, 1.2 * first),
        caution="Hair, sleeves and fingers away from what moves; the nozzle is hot.",
    )]  # fmt: skip
    duration = part.plan.duration
    looks: dict[float, list[str]] = {}
    for key, a in of.judgement.counted.items():
        if a.begins is None or a.begins.height <= 0.0 or not a.probability > 0.005:
            continue
        looks.setdefault(round(a.begins.height, 3), []).append(of.judgement.titles[key].lower())
    for height, what in sorted(looks.items()):
        at = float(np.interp(height, np.concatenate([[0.0], part.column.top]), clock))
        if first < at < duration:
            found.append(Step(
                f"look-{1e3 * height:.0f}", "print", f"Look in at {show(height, 'length', prefs, digits=0)}",
                f"{'; '.join(what).capitalize()}: look at corners and at the plate's edge with a lamp.",
                "From this height on it would show; a print that is stopped here costs little.", "nothing has moved",
                (_between(at, first, -1), at - first, _between(at, first, 1)),
            ))  # fmt: skip
    rest = max(duration - first, 0.0)
    found.append(Step(
        "print", "print", "Print to the end", f"{part.plan.layers} layers, {show_duration(duration)}.",
        "Nobody has to stand beside it, somebody has to be near it.", "the last layer is laid",
        ((1.0 - PRINT_WITHIN) * rest, rest, (1.0 + PRINT_WITHIN) * rest), attended=False,
        caution="Unattended heaters: an independent cut-out and a smoke alarm do what software cannot.",
    ))  # fmt: skip
    return found


def _between(at: float, first: float, sign: int) -> float:
    return (1.0 + sign * PRINT_WITHIN) * (at - first)


def _after(of: SheetOf, prefs: UnitPreferences) -> list[Step]:
    cool, plate = of.cool, touched(of.rig.bed)
    touch = burns_at(plate, GRASPED)
    held = cool.below(cool.surface, touch)
    loose = cool.below(cool.surface, of.lets_go) if math.isfinite(of.lets_go) else math.nan
    found = [Step(
        "cool", "after", "Cool down",
        "Heaters off, doors shut, the part stays on the plate." if cool.set_point[-1] <= OFF and cool.set_point[1] <= OFF
        else "Set points fall by the ramp, doors shut, the part stays on the plate.",
        "A part that is cooled in a draught, or pulled off warm, bends and cracks.",
        f"the plate is below {show(touch, 'temperature', prefs, digits=0)}", _about(held), attended=False,
        caution=f"Above {show(touch, 'temperature', prefs, digits=0)} {plate} burns within a minute of contact.",
    )]  # fmt: skip
    if math.isfinite(loose):
        found.append(Step(
            "loose", "after", "It comes off by itself",
            f"Below {show(of.lets_go, 'temperature', prefs, digits=0)} plate and part have shrunk apart: listen, then lift.",
            "What is bent off a hot plate stays bent, and so does the plate.", "the part is loose",
            tuple(max(v - max(held, 0.0), 0.0) for v in _about(loose)),  # type: ignore[arg-type]
            attended=False,
        ))  # fmt: skip
    for n, step in enumerate(of.removal):
        found.append(Step(
            f"off-{n + 1}", "after", f"Take it off, {n + 1}", step.what, step.risk or "The gentlest way first.",
            takes=_minutes(0, 2, 5),
        ))  # fmt: skip
    found.append(Step(
        "clean", "after", "Clean and put away", "Wipe the plate, note what happened, filament back into its dry box, machine off.",
        "The next print begins with this one's end.", takes=_minutes(2, 5, 10),
    ))  # fmt: skip
    return found


def _about(seconds: float) -> tuple[float, float, float]:
    """A cool-down's time with what a room and a draught do to it (practice, unchecked)."""
    return (0.8 * seconds, seconds, 1.35 * seconds) if math.isfinite(seconds) else (0.0, 0.0, 0.0)
