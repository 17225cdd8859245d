"""Trials of the book: which prints belong to them, and where they stand."""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from typing import Final

from mandorla.core.errors import InputError
from mandorla.core.logbook.compare_prints import failed_of
from mandorla.core.logbook.ladder import LadderState, Prior, climb
from mandorla.core.logbook.messages import ladder_sentence, rates_sentence, sequential_sentence
from mandorla.core.logbook.records import Print, Trial
from mandorla.core.logbook.trial_statistics import (
    Comparison,
    Counts,
    Sequential,
    compare_arms,
    random_order,
    sequential,
)
from mandorla.core.units import METRIC, UnitPreferences

MOST_PAIRS: Final = 40
STEP: Final = 2.5  # K between a ladder's steps


def plan_pairs(name: str, arms: tuple[str, str], pairs: int, question: str = "", preparation: str = "") -> Trial:
    """A trial of pairs in random order. Raises :class:`InputError`."""
    if not 2 <= pairs <= MOST_PAIRS:
        raise InputError(f"A trial takes 2 to {MOST_PAIRS} pairs: one print an arm concludes nothing.")
    if arms[0] == arms[1] or not all(a.strip() for a in arms):
        raise InputError("A trial needs two arms with names of their own.")
    seed = zlib.crc32(f"{name} {arms}".encode())
    return Trial(
        name=name, kind="ab", question=question, arms=arms, order=random_order(arms, pairs, seed),
        preparation=preparation or "Both arms: washed with soapy water, dried, not touched.",
    )  # fmt: skip


def plan_ladder(name: str, setting: str, prior: Prior, ends: tuple[float, float], question: str = "") -> Trial:
    """A ladder of one setting between two temperatures (K). Raises :class:`InputError`."""
    if not ends[1] - ends[0] >= 2.0 * STEP:
        raise InputError("A ladder needs ends that are at least 5 K apart.")
    return Trial(
        name=name, kind="ladder", question=question, setting=setting, direction="up" if prior.up else "down",
        prior=(prior.middle, prior.middle_spread, prior.width, prior.width_spread), ends=ends,
        preparation="Before every print: washed with soapy water, dried, not touched; the other settings stay.",
    )  # fmt: skip


def prints_of(trial: Trial, prints: Sequence[Print]) -> list[Print]:
    """A trial's prints in their order."""
    return sorted((p for p in prints if p.trial == trial.key), key=lambda p: (p.at, p.number))


def arms_of(trial: Trial, prints: Sequence[Print]) -> tuple[list[Counts], list[Counts]]:
    """Failed and printed parts of each print of both arms, without accidents."""
    own = prints_of(trial, prints)
    first, second = (
        [c for p in own if p.arm == arm and (c := failed_of(p)) is not None] for arm in trial.arms[:2]
    )  # fmt: skip
    return first, second


def stands(trial: Trial, prints: Sequence[Print]) -> tuple[Comparison, Sequential]:
    """Where a trial of pairs stands: its rates, and its sequential test over complete pairs."""
    first, second = arms_of(trial, prints)
    pairs = list(zip(first, second, strict=False))
    names = (trial.arms[0], trial.arms[1])
    return compare_arms(names, first, second), sequential(pairs, len(trial.order) // 2)


def next_arm(trial: Trial, prints: Sequence[Print]) -> str:
    """Which arm is printed next; empty where the plan is done."""
    done = sum(failed_of(p) is not None or not p.entered for p in prints_of(trial, prints))
    return trial.order[done] if done < len(trial.order) else ""


def climbed(trial: Trial, prints: Sequence[Print]) -> LadderState:
    """Where a ladder stands."""
    seen = []
    for p in prints_of(trial, prints):
        counts, at = failed_of(p), p.setup.get(trial.setting)
        if counts is not None and at is not None:
            seen.append((float(at), counts[1] - counts[0], counts[1]))
    count = round((trial.ends[1] - trial.ends[0]) / STEP)
    steps = [trial.ends[0] + STEP * k for k in range(count + 1)]
    return climb(Prior(*trial.prior, trial.direction == "up"), steps, seen)


def ladder_ends(prior: Prior, here: float) -> tuple[float, float]:
    """Lowest and highest step (K) of a ladder that begins with a curve, about the set point as it is."""
    return min(prior.middle - 15.0, here - 10.0), max(prior.middle + 15.0, here + 5.0)


def trial_sentence(trial: Trial, prints: Sequence[Print], prefs: UnitPreferences = METRIC) -> str:
    """Where a trial stands and what is printed next."""
    if trial.kind == "ladder":
        return ladder_sentence(climbed(trial, prints), prefs)
    comparison, test = stands(trial, prints)
    following = next_arm(trial, prints)
    said = sequential_sentence(test, (trial.arms[0], trial.arms[1]), len(trial.order) // 2)
    parts = (said, rates_sentence(comparison), f"Next: {following}." if following and not test.ended else "")
    return " ".join(p for p in parts if p)
