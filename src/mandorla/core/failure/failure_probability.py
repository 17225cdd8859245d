"""How likely each failure of a part is, which unknown decides it, and which test would shrink that.

What is not known (grip, polymer, temperatures) is sampled within its ranges. A quadratic emulator of the quick estimate answers for
each draw; a full simulation of the same state, if there is one, anchors it: its results take the place of the quick ones at the
middle, and what is left of the quick model's own spread is that between neighbouring states.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Final

import numpy as np

from mandorla.core.failure.response_surface import ResponseSurface, design, first_order, fit_response_surface
from mandorla.core.failure.thresholds import BEGINS
from mandorla.core.materials.values import Value
from mandorla.core.part.mesh import Floats
from mandorla.core.rig.settings import Criteria
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.heatup import HeatUp
from mandorla.core.warp.adhesion import LETS_GO, LETS_GO_SPREAD, adhesion_of
from mandorla.core.warp.cracks import CRACK_MODEL, STRENGTH_WITHIN
from mandorla.core.warp.estimate import Conditions, PartToPrint, body_of, estimate_warp
from mandorla.core.warp.fe_result import NOTICED, FullRun

Z90: Final = 1.6448536269514722
DESIGN: Final = 128  # quick estimates the emulator is fitted to: 45 coefficients of eight unknowns
HELD_BACK: Final = 32
DRAWS: Final = 1 << 15
_SEED: Final = 7
# ln-standard deviations of the quick model against full simulations (benchmarks/quick_against_full.py, 80 cases): by itself, and
# between neighbouring states once a full run anchors it
FREE: Final[Mapping[str, float]] = {"margin": 0.12, "lift": 0.31, "crack": CRACK_MODEL}
ANCHORED: Final[Mapping[str, float]] = {"margin": 0.10, "lift": 0.21, "crack": 0.30, "plate": 0.30}
GLANCE: Final = (
    0.22  # ln-standard deviation of the plate's gap at a glance against a standard run (benchmarks/plate_glance.py)
)
PLATE_BY_MOMENT: Final = (
    2.0  # a held plate's lift goes with the square of the films' moment (M²/(2 p EI)) and inversely with the pull
)
TESTS: Final[Mapping[str, str]] = {
    "grip on the plate": "print a strip on this plate at three plate temperatures and note which ends detach",
    "thermal expansion": "print a bar on a stiff plate, take it off and measure how much shorter it is than drawn",
    "stiffness": "load a printed bar in bending and note how far it goes",
    "stress-free temperature": "warm a printed bar step by step and note when it stops curling back",
    "stress relaxation": "clamp a bent printed bar at the chamber's temperature for an hour and note the bend that stays",
    "plate temperature": "measure the surface at the part's corners when soaked (stage Verify)",
    "chamber temperature": "hang a probe beside the part for an hour of the print (stage Verify)",
    "strength between layers": "print an upright bar with these layer times and break it across its layers",
    "magnet's pull": "pull the bare sheet off at a corner with a spring scale",
    "quick model's own error": "run the full simulation, it takes this error out",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class FailureProbability:
    """A failure: its name, probability with what sampling and emulator leave open, and when it counts as happened."""

    name: str
    probability: float
    low: float
    high: float
    criterion: str


@dataclass(frozen=True, slots=True)
class DecidingUnknown:
    """An unknown: what share of the scatter of the deciding figure it explains by itself, and the test that would shrink it."""

    name: str
    share: float
    test: str


@dataclass(frozen=True, slots=True)
class FailureProbabilities:
    """Probabilities of every failure and of any; ``unknowns`` largest first for the figure ``decides``, whose 90 % range is
    ``range`` now and ``without`` once the largest unknown is known. ``emulator`` ln-rms errors on points held back; ``anchored`` by
    a full run; ``plate_known`` is false where a loose plate could come off and neither a full run nor a glance tells how far."""

    failures: tuple[FailureProbability, ...]
    anything: FailureProbability
    decides: str
    unknowns: tuple[DecidingUnknown, ...]
    range: tuple[float, float]
    without: tuple[float, float]
    ranges: Mapping[str, tuple[float, float]]
    emulator: Mapping[str, float]
    anchored: bool
    draws: int
    plate_known: bool = True


def _moved(value: Value, z: float) -> Value:
    """A value at z standard deviations: geometric between low, typical and high at 90 %."""
    end = value.high if z > 0.0 else value.low
    return replace(value, typical=float(value.typical * (end / value.typical) ** (abs(z) / Z90)))


@dataclass(frozen=True, slots=True)
class _Spread:
    """The 90 % half widths of the temperatures (K)."""

    plate: float
    chamber: float


def _state(part: PartToPrint, at: Conditions, z: Floats, spread: _Spread) -> tuple[PartToPrint, Conditions]:
    """The part and its conditions at a point (7,) of the unknowns in standard deviations."""
    p = part.polymer
    key = part.process.polymer
    grip = adhesion_of(part.surface, key)
    factor = float((grip.strength.high / grip.strength.typical) ** (z[0] / Z90))
    scaled = replace(
        grip, strength=replace(grip.strength, typical=grip.strength.typical * factor),
        fracture_energy=replace(grip.fracture_energy, typical=grip.fracture_energy.typical * factor),
    )  # fmt: skip
    free = p.stress_free_temperature
    polymer = replace(
        p, expansion=_moved(p.expansion, z[1]), modulus=_moved(p.modulus, z[2]),
        stress_free_temperature=replace(
            free, typical=free.typical + z[3] / Z90 * ((free.high - free.typical) if z[3] > 0 else (free.typical - free.low))
        ), relaxation_time=_moved(p.relaxation_time, z[4]),
    )  # fmt: skip
    warmer, air = z[5] / Z90 * spread.plate, z[6] / Z90 * spread.chamber
    where = replace(
        at, plate_first=at.plate_first + warmer, plate_rest=at.plate_rest + warmer, corner_plate=at.corner_plate + warmer,
        chamber=at.chamber + air,
    )  # fmt: skip
    surface = replace(part.surface, grip={**part.surface.grip, key: scaled})
    return replace(part, polymer=polymer, surface=surface), where


NAMES: Final = (
    "grip on the plate", "thermal expansion", "stiffness", "stress-free temperature", "stress relaxation", "plate temperature",
    "chamber temperature",
)  # fmt: skip
OUTPUTS: Final = ("margin", "lift", "crack", "moment")
_FLOOR: Final = 1e-6


def film_moment(part: PartToPrint, at: Conditions) -> float:
    """Moment (N per m) that the films of a part held flat bring about its own section: what pulls a plate off its seat."""
    body, blocks = body_of(part, at), part.blocks
    share = blocks.gross_area / blocks.gross_area[0]
    plane, total = body.E_print * share, 0.0
    contraction = body.fresh + np.maximum(body.late, 0.0)
    for i in range(blocks.bottom.size):
        middle = 0.5 * float(blocks.bottom[i] + blocks.top[i])
        low, high = blocks.bottom[: i + 1], np.append(blocks.top[:i], middle)
        EA = plane[: i + 1] * (high - low)
        neutral = float((EA * 0.5 * (high + low)).sum() / EA.sum())
        total += float(plane[i] * contraction[i] * (blocks.top[i] - blocks.bottom[i])) * (middle - neutral)
    return total


def _quick(part: PartToPrint, at: Conditions) -> Floats:
    """ln of margin, largest lift, crack index and films' moment (4,)."""
    w = estimate_warp(part, at, with_bands=False)
    values = (w.margin, max(w.printed_lift, abs(w.released_lift)), w.crack_index, film_moment(part, at))
    return np.asarray(np.log(np.maximum(np.array(values), _FLOOR)))


@dataclass(frozen=True, slots=True)
class _Draws:
    """Sampled figures (DRAWS,), logarithms: ``margin``, the quick margin at which it lets go, ``lift``, ``crack``, ``plate`` lift
    (None: not known); the ``unknowns`` they follow from, by figure and name."""

    margin: Floats
    threshold: Floats
    lift: Floats
    crack: Floats
    plate: Floats | None
    unknowns: Mapping[str, Mapping[str, Floats]]


def failure_probabilities(
    part: PartToPrint, at: Conditions, heat: HeatUp, criteria: Criteria, full: FullRun | None = None, pull: Value | None = None,
    run: RunContext | None = None, gap: float | None = None,
) -> FailureProbabilities:  # fmt: skip
    """Probabilities of the failures of a part at a state; ``pull`` is the magnet's (None: nothing loose), ``gap`` (m) what the
    plate does at a glance (None: not looked at), which counts without a full run.

    Raises :class:`Cancelled`. A full run that stopped early tells only what stopped it; one without a loose plate, nothing of the
    plate.
    """
    run = run or RunContext()
    surface, air = heat.bands.get("surface"), heat.bands.get("air")
    spread = _Spread(
        3.0 if surface is None else 0.5 * (surface.high - surface.low),
        4.0 if air is None else 0.5 * (air.high - air.low),
    )
    count = 0

    def quick(z: Floats) -> Floats:
        nonlocal count
        count += 1
        run.checkpoint(0.9 * count / (DESIGN + HELD_BACK), "quick estimates within the ranges")
        return _quick(*_state(part, at, z, spread))

    emulator = fit_response_surface(quick, len(NAMES), DESIGN, HELD_BACK, _SEED)
    error = dict(zip(OUTPUTS, (float(e) for e in emulator.errors), strict=True))
    anchor = full if full is not None and not full.stopped else None
    drawn = _draw(emulator, _quick(part, at), full, pull, gap)
    zero = np.zeros(DRAWS)
    columns: dict[str, tuple[str, Floats, Floats, str, float]] = {
        BEGINS: ("hold margin", -drawn.margin, zero, "hold margin below 1", error["margin"]),
        "a corner detaches": (
            "hold margin", -drawn.margin, -drawn.threshold, f"hold margin below {LETS_GO:g}: parts detach in full simulations",
            error["margin"],
        ),
        "flatness out of tolerance": (
            "lift", drawn.lift, zero + np.log(criteria.lift_limit), "larger of the lifts beyond the limit of the criteria",
            error["lift"],
        ),
        "it cracks between layers": ("crack index", drawn.crack, zero, "crack index above 1", error["crack"]),
    }  # fmt: skip
    if drawn.plate is not None:
        columns["the plate comes off its seat"] = (
            "plate lift", drawn.plate, zero + np.log(NOTICED), f"gap of more than {1e3 * NOTICED:g} mm under the plate",
            PLATE_BY_MOMENT * error["moment"],
        )  # fmt: skip
    failures = tuple(_chance(name, figure, limit, text, e) for name, (_, figure, limit, text, e) in columns.items())
    grave = [c for name, c in columns.items() if name != BEGINS]
    shares = [float(np.any([c[1] + s * c[4] > c[2] for c in grave], axis=0).mean()) for s in (0.0, -1.0, 1.0)]
    anything = _with_noise("anything of these", shares, "any but the first")
    worst = max((f for f in failures if f.name != BEGINS), key=lambda f: f.probability)
    kind, figure = columns[worst.name][:2]
    found = {name: first_order(x, figure) for name, x in drawn.unknowns[kind].items()}
    ranked = sorted(found.items(), key=lambda kv: -kv[1])
    sign = -1.0 if kind == "hold margin" else 1.0
    ends = np.exp(np.sort(sign * np.quantile(figure, (0.05, 0.95))))
    typical = float(np.exp(sign * np.median(figure)))
    shrunk = typical * (ends / typical) ** float(np.sqrt(max(1.0 - ranked[0][1], 0.0)))
    run.checkpoint(1.0, "done")
    return FailureProbabilities(
        failures, anything, kind, tuple(DecidingUnknown(name, s, _test(name, full)) for name, s in ranked if s > 0.005),
        (float(ends[0]), float(ends[1])), (float(shrunk[0]), float(shrunk[1])), _ranges(drawn), error, anchor is not None, DRAWS,
        pull is None or drawn.plate is not None,
    )  # fmt: skip


def _test(name: str, full: FullRun | None) -> str:
    """The test that would tell about an unknown; where a full run has been made, another of those tells what it left open."""
    again = full is not None and name == "quick model's own error"
    return "run the full simulation once more beside this state, or finer" if again else TESTS[name]


def _ranges(drawn: _Draws) -> dict[str, tuple[float, float]]:
    """90 % range of every figure."""
    figures = {"hold margin": drawn.margin, "lift": drawn.lift, "crack index": drawn.crack}
    if drawn.plate is not None:
        figures["plate lift"] = drawn.plate
    ends = {name: np.exp(np.quantile(values, (0.05, 0.95))) for name, values in figures.items()}
    return {name: (float(low), float(high)) for name, (low, high) in ends.items()}


def _draw(
    emulator: ResponseSurface, middle: Floats, full: FullRun | None, pull: Value | None, glance: float | None
) -> _Draws:
    """Sample what is not known; ``middle`` (4,) is the quick answer at the typical values."""
    rng = np.random.default_rng(_SEED)
    points = design(DRAWS, len(NAMES), _SEED + 2)
    values = emulator(points) + rng.normal(size=(DRAWS, len(OUTPUTS))) * emulator.errors
    whole = full is not None and not full.stopped
    own = ANCHORED if whole else FREE
    model = {name: rng.normal(size=DRAWS) for name in ("margin", "lift", "crack", "plate")}
    margin = values[:, 0] + own["margin"] * model["margin"]
    threshold = np.log(LETS_GO) + LETS_GO_SPREAD * rng.normal(size=DRAWS)
    lift = values[:, 1] + own["lift"] * model["lift"]
    strength = rng.normal(size=DRAWS)
    crack = values[:, 2] + own["crack"] * model["crack"] - np.log(STRENGTH_WITHIN) / Z90 * strength
    plate, magnet = None, rng.normal(size=DRAWS)
    if full is not None and whole:
        lift = lift + np.log(max(full.printed_lift, full.released_lift, _FLOOR)) - middle[1]
        if full.crack.size:
            crack = crack + np.log(max(float(full.crack.max()), _FLOOR)) - middle[2]
    if full is not None:
        # whether the run itself is detached bounds the threshold of its own state; one that stopped tells what stopped it
        went = float(full.detached[-1]) > 0.0
        threshold = np.maximum(threshold, middle[0] + 0.05) if went else np.minimum(threshold, middle[0] - 0.05)
    gap = glance if full is None else float(full.plate_lift.max())
    if pull is not None and gap is not None and np.isfinite(gap):
        own_error = ANCHORED["plate"] if full is not None else float(np.hypot(ANCHORED["plate"], GLANCE))
        plate = np.log(max(gap, _FLOOR)) + PLATE_BY_MOMENT * (values[:, 3] - middle[3]) + own_error * model["plate"]
        plate = plate - np.log(pull.high / pull.typical) / Z90 * magnet
    known = dict(zip(NAMES, points.T, strict=True))
    unknowns: dict[str, dict[str, Floats]] = {
        "hold margin": {**known, "quick model's own error": model["margin"]},
        "lift": {**known, "quick model's own error": model["lift"]},
        "crack index": {**known, "quick model's own error": model["crack"], "strength between layers": strength},
        "plate lift": {**known, "quick model's own error": model["plate"], "magnet's pull": magnet},
    }
    return _Draws(margin, threshold, lift, crack, plate, unknowns)


def _chance(name: str, figure: Floats, limit: Floats, criterion: str, error: float) -> FailureProbability:
    """Share of draws beyond a limit; the emulator's own error moves all of them either way."""
    return _with_noise(name, [float((figure + s * error > limit).mean()) for s in (0.0, -1.0, 1.0)], criterion)


def _with_noise(name: str, shares: list[float], criterion: str) -> FailureProbability:
    """A probability with its ends: the emulator's error, and twice the standard error of the sample."""
    p, low, high = shares
    noise = 2.0 * float(np.sqrt(max(p * (1.0 - p), 1e-9) / DRAWS))
    return FailureProbability(name, p, max(0.0, low - noise), min(1.0, high + noise), criterion)
