"""From what is seen on a part to its causes, ranked by probability for this rig, part and prediction, each with its test.

A cause weighs by how likely it is before anybody looks (from the prediction and the plate's history) times how often each sign goes
with it. How often signs go with causes is experience of the trade, in three steps, and unchecked.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Final, NamedTuple

from mandorla.core.logbook.latent import Use
from mandorla.core.logbook.records import Predicted

OFTEN, SOMETIMES, HARDLY = 0.7, 0.3, 0.02
_BASE: Final = 0.05  # of a sign that a cause says nothing about
_LEAST: Final = 0.01  # of a cause before anybody looks
_DIFFERENT: Final = 0.4  # by which a test's result has to differ between two causes to tell them apart

SIGNS: Final[dict[str, str]] = {
    "separation": "A line of separation inside a lifted corner",
    "folded": "An edge folded over or torn by the nozzle",
    "ripples": "Ripples across the first layer",
    "gaps": "Gaps between the lines of the first layer",
    "smooth": "Smooth patches where a texture should be",
    "one_side": "One side worse than the other",
    "outer": "Only the outer copies",
    "marks": "Marks of earlier prints",
    "bowed": "Bowed although every corner stuck",
    "crack": "A crack halfway up",
    "clean": "It came off clean, without polymer on the plate",
    "residue": "It left polymer on the plate, or took surface with it",
    "sheet": "The sheet rose under the part",
    "late": "It came off late, in the upper half",
    "early": "It came off within the first layers",
    "swollen": "The foot is swollen or soft",
    "strings": "Strings, bubbles or a rough surface",
}


class Context(NamedTuple):
    """What is known before anybody looks: predictions by way, how the side was used, whether the chamber is heated, whether a hold
    of the plate is loose."""

    predicted: Mapping[str, Predicted]
    use: Use
    closed: bool
    loose: bool

    def chance(self, way: str) -> float:
        """Stated chance of a way; nought where none was stated."""
        said = self.predicted.get(way)
        return said.probability or 0.0 if said is not None else 0.0


class Test(NamedTuple):
    """A test: what to do, minutes that it takes, and in which causes it comes out positive (chance by cause; 0.1 elsewhere)."""

    words: str
    minutes: float
    positive: Mapping[str, float]


@dataclass(frozen=True, slots=True)
class Cause:
    """A registered cause: its key, name, what to do about it, how often each sign goes with it, and its weight before."""

    key: str
    name: str
    remedy: str
    signs: Mapping[str, float]
    weight: Callable[[Context], float]


CAUSES: Final[dict[str, Cause]] = {}


def cause(
    key: str, name: str, remedy: str, **signs: float
) -> Callable[[Callable[[Context], float]], Callable[[Context], float]]:
    """Register a cause with the function that weighs it before anybody looks."""

    def register(weight: Callable[[Context], float]) -> Callable[[Context], float]:
        CAUSES[key] = Cause(key, name, remedy, signs, weight)
        return weight

    return register


@cause(
    "film", "The part pulls harder than the grip holds",
    "Warmer chamber, less fan, a brim; or plate nearer to its best temperature.",
    separation=HARDLY, clean=OFTEN, late=OFTEN, folded=HARDLY, one_side=SOMETIMES, early=HARDLY, outer=SOMETIMES,
)  # fmt: skip
def _film(c: Context) -> float:
    return 0.2 + c.chance("adhesion")


@cause(
    "dirty", "The plate is not clean", "Wash it with soapy water, rinse, dry; touch only its edge.",
    clean=OFTEN, early=SOMETIMES, one_side=SOMETIMES, smooth=SOMETIMES, marks=SOMETIMES, late=SOMETIMES,
)  # fmt: skip
def _dirty(c: Context) -> float:
    return 0.1 + min(0.05 * c.use.since_wash, 0.6)


@cause(
    "worn", "The surface is worn, or a bad specimen", "Print on its other side or another plate of the same kind.",
    clean=OFTEN, marks=OFTEN, smooth=OFTEN, one_side=SOMETIMES, early=SOMETIMES,
)  # fmt: skip
def _worn(c: Context) -> float:
    return 0.04 + min(0.002 * c.use.ever, 0.4)


@cause(
    "far", "The nozzle was too far from the plate", "Level and map hot; lower by hundredths until lines join.",
    gaps=OFTEN, clean=OFTEN, early=OFTEN, one_side=SOMETIMES, ripples=HARDLY, outer=SOMETIMES,
)  # fmt: skip
def _far(c: Context) -> float:
    return 0.06 + c.chance("first_too_far")


@cause(
    "near", "The nozzle was too near to the plate", "Raise by hundredths until the ripples are gone.",
    ripples=OFTEN, folded=SOMETIMES, smooth=SOMETIMES, residue=SOMETIMES, gaps=HARDLY, one_side=SOMETIMES,
)  # fmt: skip
def _near(c: Context) -> float:
    return 0.05 + c.chance("first_too_near")


@cause(
    "cold", "The plate is colder there than its sensor says", "Measure the surface at the corners when soaked (Verify).",
    clean=OFTEN, one_side=OFTEN, outer=OFTEN, late=SOMETIMES,
)  # fmt: skip
def _cold(c: Context) -> float:
    return 0.1 + 0.3 * c.chance("adhesion")


@cause(
    "draught", "Moving air cools one side", "Shut doors and windows, shield the machine.",
    one_side=OFTEN, late=SOMETIMES, crack=SOMETIMES, clean=SOMETIMES, outer=SOMETIMES,
)  # fmt: skip
def _draught(c: Context) -> float:
    return 0.03 if c.closed else 0.15


@cause(
    "sheet", "The plate came off its hold, the corner stuck", "Clips or a stronger magnet, a stiffer sheet, a warmer chamber.",
    sheet=OFTEN, residue=SOMETIMES, bowed=SOMETIMES, late=OFTEN, clean=HARDLY, one_side=SOMETIMES,
)  # fmt: skip
def _sheet(c: Context) -> float:
    return (0.05 if c.loose else 0.0) + c.chance("loose_plate")


@cause(
    "bow", "It shrank into a bow after release", "Warmer chamber, less infill, symmetrical walls; compensate the bow.",
    bowed=OFTEN, residue=SOMETIMES, separation=HARDLY, sheet=HARDLY,
)  # fmt: skip
def _bow(c: Context) -> float:
    return 0.05 + c.chance("flatness")


@cause(
    "joints", "Layers hold too little on each other", "Warmer chamber, less fan, hotter nozzle, shorter layer times.",
    crack=OFTEN, separation=OFTEN, strings=SOMETIMES, clean=HARDLY,
)  # fmt: skip
def _joints(c: Context) -> float:
    return 0.04 + c.chance("cracks")


@cause(
    "moist", "The filament is moist", "Dry it as the run sheet says, print from the dryer.",
    strings=OFTEN, crack=SOMETIMES, separation=SOMETIMES, gaps=SOMETIMES,
)  # fmt: skip
def _moist(_: Context) -> float:
    return 0.06


@cause(
    "soft", "The foot was too warm", "Lower the bed after the first layers.",
    swollen=OFTEN, folded=SOMETIMES, smooth=HARDLY, late=SOMETIMES,
)  # fmt: skip
def _soft(c: Context) -> float:
    return 0.02 + c.chance("soft_foot")


@cause(
    "bond", "The bond is stronger than the surface", "A release layer, or take it off colder.",
    residue=OFTEN, clean=HARDLY, bowed=SOMETIMES,
)  # fmt: skip
def _bond(c: Context) -> float:
    return 0.03 + c.chance("surface_tear")


TESTS: Final[tuple[Test, ...]] = (
    Test("Look along the sheet's edge with the part on it: does the sheet itself stand up?", 1, {"sheet": 0.9}),
    Test("Scratch the foot of the part: do its lines come apart?", 2, {"far": 0.8, "moist": 0.4}),
    Test("Look at the first layer's underside against the light: ripples?", 1, {"near": 0.85}),
    Test("Break a piece across its layers: do the faces look smooth?", 2, {"joints": 0.85, "moist": 0.5}),
    Test("Drip water on the plate: does it form beads?", 2, {"dirty": 0.85, "worn": 0.3}),
    Test("Hold a thread at the machine's open side: does it move?", 2, {"draught": 0.85}),
    Test("Wash the plate and print the part's corner once more: does it hold?", 45, {"dirty": 0.85}),
    Test("Print the part's corner on the plate's other side: does it hold?", 40, {"worn": 0.85, "dirty": 0.5}),
    Test("Read the surface at the corner and in the middle when soaked: more than 5 K apart?", 30, {"cold": 0.85, "draught": 0.6}),
    Test("Weigh a metre of filament, dry it for four hours, weigh again: lighter?", 260, {"moist": 0.9}),
    Test("Measure the foot's width against a layer higher up: wider?", 2, {"soft": 0.9, "near": 0.5}),
    Test("Put the part on a flat table: does it rock with all corners sound?", 1, {"bow": 0.9, "sheet": 0.3}),
    Test("Look for torn-out spots in the surface with a lens", 3, {"bond": 0.9}),
    Test("Turn the part by 90° in the next print: does the part come off at the same place of the bed?", 240,
         {"cold": 0.9, "draught": 0.8, "worn": 0.6}),
)  # fmt: skip


class Ranked(NamedTuple):
    """A cause with its probability, and the cheapest test that tells it from the next one (empty: none does)."""

    cause: Cause
    probability: float
    test: str


def diagnose(signs: Sequence[str], context: Context) -> list[Ranked]:
    """Causes by probability for what was seen. Signs that are not known raise KeyError."""
    for s in signs:
        SIGNS[s]
    logs = {}
    for key, c in CAUSES.items():
        logs[key] = math.log(max(c.weight(context), _LEAST)) + sum(math.log(c.signs.get(s, _BASE)) for s in signs)
    top = max(logs.values())
    weights = {k: math.exp(v - top) for k, v in logs.items()}
    total = sum(weights.values())
    order = sorted(weights, key=lambda k: -weights[k])
    found = []
    for n, key in enumerate(order):
        other = order[n + 1] if n + 1 < len(order) else order[0]
        found.append(Ranked(CAUSES[key], weights[key] / total, cheapest_test(key, other)))
    return found


def cheapest_test(one: str, other: str) -> str:
    """The cheapest test whose result differs between two causes; empty where none does."""
    telling = [t for t in TESTS if abs(t.positive.get(one, 0.1) - t.positive.get(other, 0.1)) >= _DIFFERENT]
    return min(telling, key=lambda t: t.minutes).words if telling else ""
