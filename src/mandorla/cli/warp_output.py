"""The shape of what ``mandorla warp --json`` prints, one model an option."""

from __future__ import annotations

from pydantic import RootModel

from mandorla.cli.command import Band, JudgementOutput, Output, Quantity


class LimitRow(Output):
    """One rating."""

    name: str
    state: str
    value: float
    limit: float
    unit: str
    reason: str


class PlateOutput(Output):
    """What a loose plate does; ``stands`` is how many times the films' force it takes to lift it by the accepted gap."""

    gap: Quantity
    stands: Quantity
    noticed_from: Quantity
    comes_off: bool


class FullFigures(Output):
    """The figures of the full run that the judgement is by."""

    resolution: str
    printed_lift: Quantity
    released_flatness: Quantity
    hold_margin: Quantity
    detached_when_printed: Quantity
    plate_lift: Quantity
    crack_index: Quantity


class WarpOutput(Output):
    """What ``mandorla warp --json`` prints without further options: the quick estimate's figures, those of the full run that the
    judgement is by, and the judgement."""

    status: str
    sentence: str
    hold_margin: Quantity
    hold_margin_ln_spread: Quantity
    learned_from_prints: int
    hold_probability: Quantity
    weakest_corner: str
    let_go_height: Quantity
    let_go_layer: int
    printed_lift: Band
    released_lift: Band
    crack_index: Quantity
    crack_height: Quantity
    coldest_surface: Quantity
    foot_on_even_zone: Quantity
    print_time: Quantity
    mass: Quantity
    energy: Band | Quantity
    cost: float
    limits: list[LimitRow]
    limit_sentence: str
    fit_problem: str
    notes: list[str]
    plate: PlateOutput | None = None
    full: FullFigures | None = None
    judgement: JudgementOutput


class CornerRow(Output):
    """One corner of a full run."""

    name: str
    lift: Quantity
    margin: Quantity


class ByHeight(Output):
    """The course of a full run."""

    height: list[float]
    lift: list[float]
    detached: list[float]
    plate_lift: list[float]
    unit: str


class FullOutput(Output):
    """What ``mandorla warp --full --json`` prints."""

    status: str
    sentence: str
    resolution: str
    boxes: int
    bodies: int
    box_edges: list[Quantity]
    printed_lift: Quantity
    released_flatness: Quantity
    hold_margin: Quantity
    detached_when_printed: Quantity
    detached_when_cold: Quantity
    plate_lift: Quantity
    crack_index: Quantity
    crack_height: Quantity
    corners: list[CornerRow]
    by_height: ByHeight
    seconds: Quantity
    kept: str
    notes: list[str]
    judgement: JudgementOutput


class UnknownRow(Output):
    """What one unknown does to the scatter of a failure's margin, and the test that would tell."""

    name: str
    share: Quantity
    test: str


class ChanceRow(Output):
    """The chance of one failure, its margin's ratio with a 90 % range (1 is the limit), and what decides it."""

    key: str
    name: str
    probability: Quantity
    ratio: list[float]
    unknowns: list[UnknownRow]


class CopyRow(Output):
    """One copy on the plate; ``plate`` is that under its coldest corner."""

    number: int
    x: Quantity
    y: Quantity
    plate: Quantity
    hold_margin: Quantity
    probability: Quantity


class CopiesOutput(Output):
    """Copies on one plate: how many are lost on average, and the chance that any is."""

    sentence: str
    lost_on_average: Quantity
    probability_of_any: Quantity
    copies: list[CopyRow]


class ProbabilityOutput(Output):
    """What ``mandorla warp --chances --json`` prints."""

    status: str
    sentence: str
    failures: list[ChanceRow]
    probability_of_any: Quantity
    copies: CopiesOutput | None = None
    source: str


class ShapeRow(Output):
    """One shape in a full simulation; ``stopped`` says why one did not come to its end."""

    name: str
    printed_lift: Quantity
    released_flatness: Quantity
    hold_margin: Quantity
    detached: Quantity
    stopped: str


class ShapesOutput(Output):
    """What ``mandorla warp --shapes --json`` prints."""

    status: str
    sentence: str
    tried: list[ShapeRow]


class CompensationOutput(Output):
    """What ``mandorla warp --compensate FILE.stl --json`` prints."""

    status: str
    sentence: str
    largest_shift: Quantity
    off_as_drawn_rms: Quantity
    off_compensated_rms: Quantity
    off_as_drawn: Quantity
    off_compensated: Quantity
    top_as_drawn: Quantity
    top_compensated: Quantity


class MeasuredCorner(Output):
    """One corner as predicted and as measured."""

    name: str
    predicted: Quantity
    measured: Quantity


class AgreementOutput(Output):
    """How a measured part compares with the full simulation."""

    status: str
    sentence: str
    measured_over_predicted: Quantity
    scatter: Quantity
    map_over_predicted: Quantity
    map_left_over: Quantity
    map_correlation: Quantity
    corners: list[MeasuredCorner]


class CauseRow(Output):
    """One cause taken away."""

    name: str
    without: str
    hold_margin: Quantity
    lift: Quantity


class LeverRow(Output):
    """One lever pulled by itself; ``barred`` says why it cannot be, ``simulated`` whether the chance is its own full simulation's,
    ``set`` how it is set."""

    name: str
    hold_margin: Quantity
    lift: Quantity
    crack_index: Quantity
    print_time: Quantity
    energy: Quantity
    probability_of_any: float | None
    simulated: bool
    moves: str
    barred: str
    set: list[str]


class WhyOutput(Output):
    """What ``mandorla warp --why --json`` prints."""

    status: str
    sentence: str
    hold_margin: Quantity
    lift: Quantity
    causes: list[CauseRow]
    levers: list[LeverRow]


class SeveralOutput(Output):
    """What is printed where more than one simulated answer was asked for."""

    full: FullOutput | None = None
    measured: AgreementOutput | None = None
    chances: ProbabilityOutput | None = None
    shapes: ShapesOutput | None = None
    compensated: CompensationOutput | None = None


class WarpJson(
    RootModel[
        WarpOutput | FullOutput | ProbabilityOutput | ShapesOutput | CompensationOutput | WhyOutput | SeveralOutput
    ]
):
    """Everything that ``mandorla warp --json`` can print, by what was asked for."""
