"""Every result that can be asked for: what it reads of the project, what it needs, how costly it is. No numerics load here."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Final

from mandorla.core.results.key import Cost, Key
from mandorla.core.units import METRIC

if TYPE_CHECKING:
    from mandorla.core.results.types import (
        Agreement,
        Batch,
        BuildDifference,
        Card,
        CausesAndLevers,
        ComparedEnergy,
        Comparison,
        Compensated,
        CoolDown,
        CoolingStress,
        CurveBands,
        Difference,
        Drawn,
        Evaluation,
        ExpectedTimes,
        FaultRun,
        FirstLayerShown,
        Floats,
        FullRun,
        GapMap,
        GoOn,
        HeatBalance,
        HeatUp,
        ImageOnBed,
        Joint,
        Judgement,
        Learned,
        LeversWorth,
        MachineRank,
        Money,
        MovedMass,
        Moves,
        Noticed,
        OnBackup,
        Openers,
        Optimum,
        OverAir,
        PartGeometry,
        PlateFlatness,
        PlateUse,
        PlugCourse,
        PowerCut,
        Print,
        Prior,
        ReadAgainst,
        ReadingsTable,
        ReadLog,
        Regulation,
        RigCheck,
        RigFit,
        Sensitivities,
        SessionHeights,
        SetPoints,
        SettingsCheck,
        ShapeVariant,
        Stagger,
        Step,
        StrategyFound,
        Suggested,
        SurfaceHistory,
        TrialShown,
        Wanted,
        WatchStart,
        Widened,
        Window,
    )

_HEATING: Final = ("rig", "settings.bed_first", "settings.chamber", "criteria.ready_band", "criteria.ready_drift")
_SHAPE: Final = ("part.file", "part.unit_scale", "part.scale", "part.placement", "part.gcode", "part.filament")
_ALL: Final = ("rig", "settings", "criteria", "process", *_SHAPE)
_SESSION: Final = (
    "rig", "criteria", "settings", "measurements.instruments", "measurements.acceptance", "measurements.sessions.{session}",
)  # fmt: skip

# ---- the part
GEOMETRY: Key[PartGeometry | None] = Key("geometry", "The part's mesh and sections", _SHAPE, Cost.QUICK)

MOVED_MASS: Key[tuple[MovedMass, ...]] = Key(
    "moved_mass", "Moved mass and print time", ("rig", "process"), Cost.QUICK, lambda _: (GEOMETRY,)
)

# ---- heat-up
HEAT_UP: Key[HeatUp] = Key("heat_up", "Heat-up", _HEATING, Cost.QUICK)
CURVE_BANDS: Key[CurveBands] = Key(
    "curve_bands", "Bands of the heat-up", (*_HEATING, "settings.soak_time"), Cost.SHORT, lambda _: (HEAT_UP,)
)
SURFACE_HISTORY: Key[SurfaceHistory] = Key(
    "surface_history", "Surface map over time", (*_HEATING, "settings.soak_time"), Cost.SHORT, lambda _: (HEAT_UP,)
)
PLATE_FLATNESS: Key[PlateFlatness] = Key(
    "plate_flatness", "Flatness of the plate", (*_HEATING, "settings.soak_time"), Cost.SHORT, lambda _: (HEAT_UP,)
)
OVER_AIR: Key[dict[str, OverAir]] = Key(
    "over_air", "Plate over air", ("rig", "settings", "part.placement"), Cost.SHORT, lambda _: (EVALUATION,)
)
HEAT_BALANCE: Key[HeatBalance] = Key(
    "heat_balance", "Heat balance and savings", (*_HEATING, "settings.bed_rest"), Cost.SHORT, lambda _: (HEAT_UP,)
)
REGULATION: Key[Regulation] = Key(
    "regulation",
    "Regulation and set-point program",
    ("rig", "settings", "criteria", "program"),
    Cost.SHORT,
    lambda _: (HEAT_UP,),
)
FIRST_TO_MEASURE: Key[tuple[Moves, ...]] = Key(
    "first_to_measure",
    "What is worth measuring first",
    ("rig", "settings", "criteria"),
    Cost.QUICK,
    lambda _: (HEAT_UP,),
)
SET_POINTS: Key[SetPoints | None] = Key(
    "set_points", "Set points for a wanted surface", (*_HEATING, "settings.soak_time", "criteria.surface_wanted"), Cost.SHORT,
    lambda _: (HEAT_UP,),
)  # fmt: skip
BUILD_HEAT_UPS: Key[dict[str, HeatUp]] = Key(
    "build_heat_ups", "Builds compared", (*_HEATING, "builds"), Cost.SHORT, lambda _: (HEAT_UP,)
)
BUILD_DIFFERENCES: Key[dict[str, BuildDifference]] = Key(
    "build_differences", "What builds differ by", (*_HEATING, "builds"), Cost.SHORT, lambda _: (BUILD_HEAT_UPS,)
)
FAULT: Key[FaultRun] = Key(
    "fault",
    "A fault",
    ("rig", "settings", "criteria"),
    Cost.SHORT,
    parameters=(("fault", "relay-on"), ("start", "holding")),
)
RIG_CHECKS: Key[tuple[RigCheck, ...]] = Key(
    "rig_checks",
    "Checks of the rig",
    ("rig", "settings", "criteria"),
    Cost.SHORT,
    lambda _: (HEAT_UP,),
    (("units", METRIC),),
)

# ---- what trials have taught
LEARNED: Key[Learned] = Key(
    "learned", "What trials and prints have taught",
    ("rig", "process", "part.placement", "measurements.trials", "criteria.from_prints"), Cost.QUICK,
    lambda _: (GEOMETRY,), learns=True,
)  # fmt: skip

TRIALS: Key[dict[str, TrialShown]] = Key(
    "trials", "Trials beside the model", ("rig", "process", "part.placement", "measurements.trials"), Cost.SHORT,
    lambda _: (GEOMETRY, LEARNED),
)  # fmt: skip
PRACTICE_TRIAL: Key[Drawn] = Key(
    "practice_trial", "Practice readings", ("rig", "process", "part.placement", "settings.bed_rest", "settings.chamber"),
    Cost.ON_DEMAND,
    lambda _: (GEOMETRY,), (("day", "2026-01-01"), ("kind", "strip"), ("seed", 1)),
)  # fmt: skip

# ---- the first layer
GAP_MAP: Key[GapMap | None] = Key(
    "gap_map", "Gap of the first layer", ("rig", "settings", "process.first"), Cost.QUICK, lambda _: (HEAT_UP,)
)

# ---- one state, judged
EVALUATION: Key[Evaluation] = Key(
    "evaluation", "Quick evaluation", ("rig", "settings", "criteria", "process", "part.placement"), Cost.QUICK,
    lambda _: (HEAT_UP, GEOMETRY, LEARNED, GAP_MAP),
)  # fmt: skip
SCENARIO: Key[Evaluation] = Key(
    "scenario", "A pinned scenario", ("rig", "criteria", "part.placement", "scenarios.{scenario}"), Cost.QUICK,
    lambda _: (GEOMETRY, LEARNED), (("scenario", ""),),
)  # fmt: skip
SCENARIO_JUDGEMENT: Key[Judgement] = Key(
    "scenario_judgement", "A pinned scenario, checked by full simulation",
    ("rig", "criteria", "part.placement", "scenarios.{scenario}"), Cost.BACKGROUND,
    lambda key: (GEOMETRY, LEARNED, SCENARIO.of(scenario=key["scenario"])), (("check", True), ("scenario", "")),
)  # fmt: skip
PLUG_COURSE: Key[PlugCourse] = Key("plug_course", "Power at the plug", _ALL, Cost.QUICK, lambda _: (EVALUATION,))
ENERGY_DIFFERENCE: Key[Difference | None] = Key(
    "energy_difference", "Energy against a scenario", (*_ALL, "scenarios.{scenario}"), Cost.QUICK,
    lambda key: (EVALUATION, SCENARIO.of(scenario=key["scenario"])), (("scenario", ""),),
)  # fmt: skip
BUILD_ENERGY: Key[dict[str, ComparedEnergy]] = Key(
    "build_energy", "Energy of the builds", (*_ALL, "builds"), Cost.SHORT, lambda _: (EVALUATION,)
)
MONEY: Key[Money | None] = Key(
    "money", "What a job costs", _ALL, Cost.QUICK,
    lambda key: (EVALUATION, PLUG_COURSE, JUDGEMENT.of(full=key["full"], bodies=key["bodies"])),
    (("bodies", "all"), ("full", "")),
)  # fmt: skip
ON_BACKUP: Key[tuple[OnBackup, ...]] = Key(
    "on_backup", "On a battery or a generator", _ALL, Cost.SHORT, lambda _: (EVALUATION, PLUG_COURSE)
)
BACKUP_IN_FULL: Key[tuple[OnBackup, ...]] = Key(
    "backup_in_full",
    "On a battery or a generator, checked by full simulation",
    _ALL,
    Cost.BACKGROUND,
    lambda _: (ON_BACKUP,),
)
STAGGER: Key[Stagger | None] = Key(
    "stagger", "Machines on one breaker", _ALL, Cost.SHORT, lambda _: (EVALUATION, PLUG_COURSE)
)
FIRST_LAYER_SHOWN: Key[FirstLayerShown | None] = Key(
    "first_layer_shown", "The first layer", ("process",), Cost.QUICK, lambda _: (EVALUATION, GAP_MAP)
)
# ---- the plate under the part
PLATE_USE: Key[PlateUse] = Key(
    "plate_use", "Grip of the plates at hand", ("rig", "settings", "process"), Cost.SHORT, lambda _: (EVALUATION,),
    (("units", METRIC),),
)  # fmt: skip
# ---- the judgement, and the full simulation that may stand behind it
FULL_RUN: Key[FullRun] = Key(
    "full_run", "Full simulation", _ALL, Cost.ON_DEMAND, lambda _: (GEOMETRY, EVALUATION),
    (("bodies", "all"), ("resolution", "standard")),
)  # fmt: skip


def _judged(key: Key[Any]) -> tuple[Key[Any], ...]:
    """Quick, or with a full run in place of the quick estimate's figures."""
    return (EVALUATION, FULL_RUN.of(resolution=key["full"], bodies=key["bodies"])) if key["full"] else (EVALUATION,)


JUDGEMENT: Key[Judgement] = Key(
    "judgement",
    "Every way to fail",
    ("rig", "settings", "criteria"),
    Cost.QUICK,
    _judged,
    (("bodies", "all"), ("full", "")),
)


def _by(key: Key[Any]) -> Key[Judgement]:
    """The judgement by the full run that a key tells of."""
    return JUDGEMENT.of(full=key["full"], bodies=key["bodies"])


SENSITIVITIES: Key[Sensitivities] = Key(
    "sensitivities", "What moves the figures", _ALL, Cost.SHORT, lambda _: (EVALUATION,)
)
EXPLAINED: Key[Card] = Key(
    "explained", "A figure explained", _ALL, Cost.SHORT,
    lambda key: (EVALUATION, SENSITIVITIES, JUDGEMENT.of(full=key["full"], bodies=key["bodies"])),
    (("bodies", "all"), ("figure", "surface"), ("full", "")),
)  # fmt: skip
SETTINGS_CHECK: Key[SettingsCheck] = Key(
    "settings_check",
    "These settings, checked by full simulation",
    _ALL,
    Cost.BACKGROUND,
    lambda _: (GEOMETRY, EVALUATION),
)

# ---- warp
EXPECTED_TIMES: Key[ExpectedTimes | None] = Key(
    "expected_times",
    "Time of a full simulation",
    ("rig.bed",),
    Cost.BACKGROUND,
    lambda _: (GEOMETRY,),
    (("bodies", "all"),),
)
KEPT_RUN: Key[FullRun] = Key("kept_run", "A kept run", ("runs.{run}",), Cost.SHORT, parameters=(("run", ""),))


def _copies(key: Key[Any]) -> tuple[Key[Any], ...]:
    run = (FULL_RUN.of(resolution=key["full"], bodies="all"),) if key["full"] else ()
    return GEOMETRY, EVALUATION, JUDGEMENT.of(full=key["full"], bodies="all"), *run


BATCH: Key[Batch | None] = Key("batch", "Copies on the plate", _ALL, Cost.SHORT, _copies, (("full", ""),))


def _run_of(key: Key[Any]) -> Key[FullRun]:
    return FULL_RUN.of(resolution=key["resolution"], bodies=key["bodies"])


CAUSES_AND_LEVERS: Key[CausesAndLevers] = Key(
    "causes_and_levers", "Causes and levers", _ALL, Cost.SHORT,
    lambda key: (GEOMETRY, EVALUATION, *((CAUSES_AND_LEVERS.of(units=key["units"]), _by(key)) if key["full"] else ())),
    (("bodies", "all"), ("full", ""), ("units", METRIC)),
)  # fmt: skip
LEVERS_IN_FULL: Key[CausesAndLevers] = Key(
    "levers_in_full", "Levers, the best of them in full", _ALL, Cost.BACKGROUND,
    lambda key: (GEOMETRY, EVALUATION, _levers(key)), (("bodies", "all"), ("full", ""), ("units", METRIC)),
)  # fmt: skip


def _levers(key: Key[Any], *, simulated: bool = False) -> Key[CausesAndLevers]:
    """The levers that start from what a key tells of."""
    which = LEVERS_IN_FULL if simulated else CAUSES_AND_LEVERS
    return which.of(units=key["units"], full=key["full"], bodies=key["bodies"])


LEVER_WORTH: Key[LeversWorth] = Key(
    "lever_worth", "What levers buy", _ALL, Cost.BACKGROUND,
    lambda key: (GEOMETRY, EVALUATION, _levers(key, simulated=key["simulated"])),
    (("bodies", "all"), ("full", ""), ("simulated", False), ("units", METRIC)),
)  # fmt: skip
SHAPE_VARIANTS: Key[tuple[ShapeVariant, ...]] = Key(
    "shape_variants",
    "Other shapes in full",
    _ALL,
    Cost.ON_DEMAND,
    lambda _: (GEOMETRY, EVALUATION),
    (("units", METRIC),),
)
COMPENSATION: Key[Compensated] = Key(
    "compensation", "The part pre-deformed", _ALL, Cost.ON_DEMAND, lambda key: (GEOMETRY, EVALUATION, _run_of(key)),
    (("bodies", "one"), ("foot_flat", True), ("resolution", "standard")),
)  # fmt: skip
AGREEMENT: Key[Agreement] = Key(
    "agreement", "Measured part against simulation", ("part.measured",), Cost.SHORT, lambda key: (_run_of(key),),
    (("bodies", "one"), ("resolution", "standard")),
)  # fmt: skip

# ---- tune
WINDOW: Key[Window] = Key(
    "window", "Operating window", _ALL, Cost.SHORT, lambda _: (GEOMETRY, EVALUATION), (("x", ""), ("y", ""))
)  # fmt: skip

WINDOW_THROUGH_RUNS: Key[Window] = Key(
    "window_through_runs", "Operating window through full simulations", _ALL, Cost.BACKGROUND,
    lambda key: (GEOMETRY, EVALUATION, WINDOW.of(x=key["x"], y=key["y"]), SUGGESTIONS.of(check=key["check"])),
    (("check", True), ("x", ""), ("y", "")),
)  # fmt: skip
WINDOW_AT_ONCE: Key[Window] = Key(
    "window_at_once",
    "Operating window, coarse",
    _ALL,
    Cost.QUICK,
    lambda _: (GEOMETRY, EVALUATION),
    (("x", ""), ("y", "")),
)

WINDOW_AT_BEST: Key[Window] = Key(
    "window_at_best", "Operating window, the others at their best", _ALL, Cost.BACKGROUND, lambda _: (GEOMETRY, EVALUATION),
    (("x", ""), ("y", "")),
)  # fmt: skip
MEASURING: Key[tuple[Widened, ...]] = Key(
    "measuring", "What measuring would widen", _ALL, Cost.BACKGROUND, lambda _: (GEOMETRY, EVALUATION, WINDOW)
)

SUGGESTIONS: Key[Suggested] = Key(
    "suggestions", "Suggestions, checked by full simulation", _ALL, Cost.BACKGROUND,
    lambda key: (GEOMETRY, EVALUATION, WINDOW, *((SETTINGS_CHECK,) if key["check"] else ())), (("check", True),),
)  # fmt: skip

OPENERS: Key[Openers] = Key(
    "openers", "What would open the window", _ALL, Cost.BACKGROUND,
    lambda key: (GEOMETRY, EVALUATION, WINDOW, SUGGESTIONS.of(check=key["check"])), (("units", METRIC), ("check", True)),
)  # fmt: skip

STRATEGIES: Key[tuple[StrategyFound, ...]] = Key(
    "strategies", "Strategies side by side", _ALL, Cost.BACKGROUND, lambda _: (GEOMETRY, EVALUATION), (("check", True),)
)

OPTIMUM: Key[Optimum] = Key(
    "optimum", "Optimum", (*_ALL, "builds"), Cost.ON_DEMAND, lambda _: (GEOMETRY, EVALUATION),
    (("check", True), ("free", ()), ("objective", "energy")),
)  # fmt: skip
MACHINES: Key[tuple[MachineRank, ...]] = Key(
    "machines", "The part on one's own machines", (*_ALL, "builds"), Cost.BACKGROUND, lambda _: (GEOMETRY, EVALUATION),
    (("check", True),),
)  # fmt: skip

METER_READINGS: Key[tuple[ReadAgainst, ...]] = Key(
    "meter_readings",
    "Meter readings against the prediction",
    (*_ALL, "measurements.meter"),
    Cost.QUICK,
    lambda _: (EVALUATION,),
)

# ---- verify
COMPARISON: Key[Comparison] = Key(
    "comparison", "Measured against predicted", _SESSION, Cost.SHORT, parameters=(("session", ""), ("units", METRIC))
)
READINGS: Key[ReadingsTable] = Key(
    "readings", "Readings corrected",
    ("rig", "measurements.instruments", "measurements.sessions.{session}", "process.plate", "process.side", "process.coating"),
    Cost.QUICK, parameters=(("session", ""), ("units", METRIC)),
)  # fmt: skip
LOG: Key[ReadLog] = Key(
    "log", "A log as read", ("measurements.sessions.{session}", "measurements.acceptance.drift"), Cost.SHORT,
    parameters=(("index", 0), ("session", "")),
)  # fmt: skip
IMAGE: Key[ImageOnBed] = Key(
    "image", "An infrared image on the bed", ("rig.bed", "measurements.instruments", "measurements.sessions.{session}"), Cost.SHORT,
    parameters=(("index", 0), ("session", "")),
)  # fmt: skip
HEIGHTS: Key[SessionHeights] = Key(
    "heights", "Height maps", ("measurements.sessions.{session}",), Cost.SHORT, parameters=(("session", ""),)
)
FIT: Key[RigFit] = Key(
    "fit", "Rig fitted to measurements", ("rig", "settings", "criteria", "measurements"), Cost.ON_DEMAND,
    parameters=(("day", ""), ("sessions", ()), ("units", METRIC), ("unknowns", None)),
)  # fmt: skip

# ---- run
COOL_DOWN: Key[CoolDown] = Key(
    "cool_down", "After the last layer", (*_ALL, "run_plan.ramp"), Cost.QUICK, lambda _: (EVALUATION,)
)
RUN_SHEET: Key[tuple[Step, ...]] = Key(
    "run_sheet", "Run sheet", (*_ALL, "run_plan"), Cost.SHORT,
    lambda key: (
        EVALUATION, CURVE_BANDS, PLATE_FLATNESS, COOL_DOWN, PLATE_USE.of(units=key["units"]),
        JUDGEMENT.of(full=key["full"], bodies=key["bodies"]),
    ),
    (("bodies", ""), ("full", ""), ("units", METRIC)),
)  # fmt: skip
PLANNED_TARGETS: Key[Wanted] = Key("planned_targets", "What the plan sets", ("rig", "settings", "process"), Cost.QUICK)
MASS_COURSE: Key[tuple[Floats, Floats]] = Key(
    "mass_course", "Mass against time", _ALL, Cost.QUICK, lambda _: (EVALUATION,)
)

COOLING_STRESS: Key[CoolingStress] = Key(
    "cooling_stress",
    "Thick parts while they cool",
    (*_ALL, "run_plan.ramp"),
    Cost.QUICK,
    lambda _: (EVALUATION, COOL_DOWN),
)
POWER_CUT: Key[PowerCut] = Key(
    "power_cut", "Power cut", (*_ALL, "run_plan.ramp"), Cost.SHORT, lambda _: (EVALUATION, COOL_DOWN)
)
GO_ON: Key[GoOn | None] = Key(
    "go_on", "It lifts: go on?", (*_ALL, "run_plan.seen_lift", "run_plan.seen_at"), Cost.QUICK, lambda _: (EVALUATION,)
)
WATCH_START: Key[WatchStart] = Key(
    "watch_start", "What is watched", _ALL, Cost.SHORT, lambda _: (EVALUATION, CURVE_BANDS)
)
NOTICED: Key[tuple[Noticed, ...]] = Key(
    "noticed", "What a watch notices", _ALL, Cost.ON_DEMAND, lambda _: (WATCH_START,)
)

# ---- the logbook
PRINT_ENTRY: Key[Print] = Key(
    "print_entry", "What a logbook keeps of this print", ("name", *_ALL, "measurements"), Cost.SHORT,
    lambda key: (EVALUATION, JUDGEMENT.of(full=key["full"], bodies=key["bodies"])), (("bodies", "all"), ("full", "")),
)  # fmt: skip
EXPERIENCE_HERE: Key[Joint | None] = Key(
    "experience_here", "What prints have taught of this place", ("rig", "process"), Cost.QUICK, learns=True
)
LADDER_PRIOR: Key[Prior] = Key(
    "ladder_prior", "Where a ladder begins", _ALL, Cost.SHORT, lambda _: (EVALUATION,),
    (("direction", "up"), ("setting", "settings.bed_rest")),
)  # fmt: skip
CARRIED_OVER: Key[dict[str, float]] = Key(
    "carried_over", "Settings carried over", _ALL, Cost.SHORT, lambda _: (EVALUATION,),
    (("air", 320.0), ("plate", 350.0)),
)  # fmt: skip

EVERY: Final[tuple[Key[Any], ...]] = tuple(v for v in list(globals().values()) if isinstance(v, Key))
