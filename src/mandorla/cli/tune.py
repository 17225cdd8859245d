"""``mandorla tune``: the operating window, the smallest change and the cheapest settings that hold, checked in full."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any, Final

from mandorla.cli.command import (
    Call,
    Command,
    JudgementOutput,
    Output,
    Quantity,
    check_arguments,
    exit_status,
    judged_arguments,
    judgement_answer,
)
from mandorla.cli.output import as_json, as_text, finite, quantity
from mandorla.core.errors import InputError
from mandorla.core.failure.messages import probability_text
from mandorla.core.project.paths import arguments_to
from mandorla.core.quantity_field import meaning_of
from mandorla.core.results.keys import GEOMETRY, OPENERS, SUGGESTIONS, WINDOW_THROUGH_RUNS
from mandorla.core.tune.messages import offered, openers_by, place_by, tune_sentence

if TYPE_CHECKING:
    from mandorla.core.project.models import Project
    from mandorla.core.results.types import Openers, Point, Suggestion


_UNITS: Final = {"set_point": "K", "temperature": "K", "duration": "s", "time_constant": "s", "length": "m"}


class PointOutput(Output):
    """One operating point; ``second`` is the chamber set point, or the room where the machine cannot choose its chamber."""

    bed: Quantity
    second: Quantity
    air: Quantity
    hold_margin: Quantity
    probability_of_any: Quantity
    lift: Quantity
    crack_index: Quantity
    energy: Quantity


class SuggestionOutput(Output):
    """Settings that are offered, every setting that they move, what proves them and what would have to be wrong."""

    settings: dict[str, Quantity]
    set: list[str]
    proof: str
    would_have_to_be_wrong: str
    energy: Quantity
    done_after: Quantity
    judgement: JudgementOutput


class OpenerOutput(Output):
    """A lever that would open the window, the failure that it moves most, and whether its chance is a full simulation's."""

    name: str
    probability_of_any: Quantity
    moves: str
    simulated: bool
    set: list[str]


class PairOutput(Output):
    """Two levers pulled together, where none by itself is enough."""

    names: list[str]
    probability_of_any: Quantity
    simulated: bool
    set: list[str]


class OpenersOutput(Output):
    """Where on the map something is likeliest to hold, as arguments, ``by`` which models, and the levers pulled there, by
    themselves and in pairs, ``levers_by`` which models."""

    set: list[str]
    probability_of_any: Quantity
    by: str
    levers_by: str
    levers: list[OpenerOutput]
    pairs: list[PairOutput]


class InHandOutput(Output):
    """How far the settings can move along an axis before something gives out, and what: null where the map ends first."""

    axis: str
    unit: str
    down: float | None
    up: float | None
    below: str
    above: str


class TuneOutput(Output):
    """What ``mandorla tune --json`` prints."""

    status: str
    sentence: str
    axis: str
    in_hand: list[InHandOutput]
    present: PointOutput
    cheapest: SuggestionOutput | None
    nearest: SuggestionOutput | None
    safest: SuggestionOutput | None
    fastest: SuggestionOutput | None
    openers: OpenersOutput
    bound_by: str
    almond_share: Quantity
    points: list[int]
    fit_error_deviations: Quantity
    judgement: JudgementOutput


def _arguments(parser: argparse.ArgumentParser) -> None:
    judged_arguments(parser)
    check_arguments(parser)
    axes = "bed, bed_first, bed_rest, chamber, room, soak, fan, brim, layer_time, grip, exhaust"
    parser.add_argument("--across", default="", help=f"first axis of the map of what is in hand: {axes}")
    parser.add_argument("--up", default="", help="second axis of that map")


def _point(p: Point) -> dict[str, Any]:
    return {
        "bed": quantity(p.x, "K"), "second": quantity(p.y, "K"), "air": quantity(p.air, "K"),
        "hold_margin": quantity(p.margin, "1"), "probability_of_any": quantity(p.chance, "1"), "lift": quantity(p.lift, "m"),
        "crack_index": quantity(p.crack, "1"), "energy": quantity(p.energy, "J"),
    }  # fmt: skip


def _suggestion(s: Suggestion | None, call: Call) -> dict[str, Any] | None:
    if s is None:
        return None
    kinds = {name: meaning_of(field, name) for name, field in type(s.settings).model_fields.items()}
    units = {name: _UNITS.get(m.kind, "1") for name, m in kinds.items() if m is not None}
    return {
        "settings": {name: quantity(getattr(s.settings, name), units[name]) for name in units},
        "set": list(s.settings.arguments(call.project.settings)), "proof": s.proof, "would_have_to_be_wrong": s.wrong,
        "energy": quantity(s.energy, "J"), "done_after": quantity(s.duration, "s"),
        "judgement": judgement_answer(s.judgement, call.units),
    }  # fmt: skip


def _openers(openers: Openers, project: Project) -> dict[str, Any]:
    levers = [
        {
            "name": v.name, "probability_of_any": quantity(v.chance, "1"), "moves": v.moves, "simulated": v.simulated,
            "set": list(arguments_to(project, v.changes or {})),
        }
        for v in openers.levers[:8]
    ]  # fmt: skip
    place = list(openers.settings.arguments(project.settings))
    pairs = [
        {
            "names": [q.first.name, q.second.name],
            "probability_of_any": quantity(q.chance, "1"),
            "simulated": q.simulated,
            "set": list(arguments_to(project, q.changes or {})),
        }
        for q in openers.pairs
    ]
    return {
        "set": place, "probability_of_any": quantity(openers.chance, "1"), "by": place_by(openers),
        "levers_by": openers_by(openers), "levers": levers,
        "pairs": pairs,
    }  # fmt: skip


def _in_hand(call: Call) -> list[dict[str, Any]]:
    """Along the axes that are asked for, by the map as full simulations have moved it."""
    x, y = call.options.across, call.options.up
    usual = not x and not y
    window = call.get(SUGGESTIONS.of(check=call.check)).window if usual else call.get(
        WINDOW_THROUGH_RUNS.of(x=x, y=y, check=call.check)
    )  # fmt: skip
    found = []
    for n, axis in enumerate(window.axes):
        hand = window.in_hand(n)
        found.append({
            "axis": axis.key, "unit": _UNITS.get(axis.kind, "1"),
            "down": finite(hand.down), "up": finite(hand.up), "below": hand.below, "above": hand.above,
        })  # fmt: skip
    return found


def answer(call: Call) -> dict[str, Any]:
    """The operating window as one object. Raises InputError without a part."""
    if call.get(GEOMETRY) is None:
        raise InputError(f"“{call.options.project.name}” has no part to print.")
    judgement = call.judgement()
    suggested = call.get(SUGGESTIONS.of(check=call.check))
    w, found = suggested.window, suggested.offers
    openers = call.get(OPENERS.of(units=call.units, check=call.check))
    by_key = offered(found, judgement)
    return {
        "status": judgement.whole.value,
        "sentence": tune_sentence(w, judgement, found, openers, call.project.rig, call.project.settings, call.units),
        "axis": "chamber" if w.heated else "room",
        "in_hand": _in_hand(call),
        "present": _point(w.present),
        "cheapest": _suggestion(by_key.get("cheapest"), call),
        **{key: _suggestion(by_key.get(key), call) for key in ("nearest", "safest", "fastest")},
        "openers": _openers(openers, call.project),
        "bound_by": w.binding,
        "almond_share": quantity(float(w.almond.mean()), "1"),
        "points": list(w.margin.shape),
        "fit_error_deviations": quantity(w.fit_error, "1"),
        "judgement": judgement_answer(judgement, call.units),
    }


def run(call: Call) -> int:
    """Print the window's answer, and every suggestion as arguments that set it."""
    found = answer(call)
    if call.json:
        as_json(found)
    else:
        as_text(found, call.units)
        for key, title in (
            ("nearest", "smallest change"),
            ("cheapest", "cheapest"),
            ("safest", "safest"),
            ("fastest", "done soonest"),
        ):
            s = found[key]
            if s is not None:
                print(f"  {title}, {s['proof']}: {' '.join(s['set']) or 'nothing to set'}")
                if s["would_have_to_be_wrong"]:
                    print(f"    {s['would_have_to_be_wrong']}")
        openers = found["openers"]
        if openers["levers"]:
            chance = probability_text(openers["probability_of_any"]["value"])
            place = " ".join(openers["set"]) or "these settings"
            print(
                f"  likeliest to hold, {chance} that anything fails {openers['by']}: {place}; "
                f"with one lever pulled there, {openers['levers_by']}:"
            )
        for v in (*openers["levers"], *openers["pairs"]):
            text = v["name"] if "name" in v else " with ".join(v["names"])
            by = f", simulated: {' '.join(v['set'])}" if v["simulated"] else ""
            print(f"  {probability_text(v['probability_of_any']['value']):>10s} that anything fails  {text}{by}")
    judgement = call.judgement()
    return exit_status(judgement.whole, judgement.determined, call.options.fail_on)


COMMAND = Command(
    "tune", "the operating window, the smallest change and the cheapest settings that hold", run, _arguments, TuneOutput
)
