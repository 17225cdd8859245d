"""Pull-off coupons: forces by hand, torn legs, ranges that hold the truth, and the side that they count for."""

from __future__ import annotations

import math

import numpy as np
import pytest

from mandorla.core.errors import InputError
from mandorla.core.measure.trials import CouponReading, CouponTrial
from mandorla.core.part.plates import Plate, PlateSide
from mandorla.core.part.process import Process
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.learned import coupons_on
from mandorla.core.results.results import Results
from mandorla.core.warp.adhesion import temperature_factor
from mandorla.core.warp.coupons import SHARE, coupon_forces, learn_grip, library_grip, with_unknowns
from mandorla.core.warp.simulated_trials import draw_trial
from mandorla.core.warp.trials import learn, trial_shown
from tests.core.bundles import small_bundle

DAY = "2026-03-21"
PROCESS = Process(polymer="petg", surface="polyetherimide_textured")


def trial(*readings: tuple[float, float, bool]) -> CouponTrial:
    rows = tuple(CouponReading(temperature=T, force=f, torn=torn) for T, f, torn in readings)
    return coupons_on(PROCESS, DAY).model_copy(update={"readings": rows})


def drawn(seed: int) -> tuple[CouponTrial, dict[str, float]]:
    found = draw_trial("coupon", "petg", 350.0, 300.0, seed, DAY, pulled_off=coupons_on(PROCESS, DAY))
    assert isinstance(found.trial, CouponTrial)
    return found.trial, found.truth


def test_a_coupons_force_is_grip_times_area_times_what_a_pull_takes() -> None:
    t = trial((348.15, 1.0, False), (320.0, 1.0, False))
    grip = library_grip(t)
    by_hand = SHARE * 1e-4 * grip.strength.typical * temperature_factor(np.array([348.15, 320.0]), grip)
    assert coupon_forces(t, grip) == pytest.approx(by_hand)


def test_typical_coupons_leave_the_grip_typical_and_narrow_it() -> None:
    grip = library_grip(trial())
    T = np.repeat(grip.peak_temperature.typical + np.array([-30.0, -15.0, 0.0, 5.0]), 2)
    typical = coupon_forces(trial(*((float(v), 1.0, False) for v in T)), grip)
    learned = learn_grip([trial(*((float(v), float(f), False) for v, f in zip(T, typical, strict=True)))])
    assert learned.level.typical == pytest.approx(1.0, abs=0.02)
    assert learned.peak.typical == pytest.approx(grip.peak_temperature.typical, abs=0.3)
    assert learned.level.high / learned.level.low < 0.6 * grip.strength.high / grip.strength.low
    assert learned.coupons == 8


def test_twice_the_force_is_about_twice_the_grip() -> None:
    grip = library_grip(trial())
    T = [grip.peak_temperature.typical + d for d in (-20.0, -10.0, 0.0)] * 3
    plain = coupon_forces(trial(*((v, 1.0, False) for v in T)), grip)
    learned = learn_grip([trial(*((v, 1.6 * float(f), False) for v, f in zip(T, plain, strict=True)))])
    assert 1.35 < learned.level.typical < 1.6, "the prior and the share that all coupons have pull it back a little"


def test_a_torn_leg_says_that_the_grip_is_more_and_no_more() -> None:
    grip = library_grip(trial())
    T = grip.peak_temperature.typical
    weak = 0.4 * float(coupon_forces(trial((T, 1.0, False)), grip)[0])
    clean = learn_grip([trial(*[(T, weak, False)] * 4)])
    torn = learn_grip([trial(*[(T, weak, True)] * 4)])
    assert clean.level.typical < 0.7
    assert torn.level.typical > 0.9
    strong = 1.8 * weak / 0.4
    assert learn_grip([trial(*[(T, strong, True)] * 4)]).level.typical > 1.2


def test_ranges_hold_the_truth_as_often_as_stated() -> None:
    inside, left = {"level": 0, "peak": 0}, []
    count = 150
    for seed in range(count):
        t, truth = drawn(seed)
        grip, learned = library_grip(t), learn_grip([t])
        true = with_unknowns(grip, [truth["grip"], truth["its peak"], truth["its cold share"]])
        level = true.strength.typical / grip.strength.typical
        inside["level"] += learned.level.low <= level <= learned.level.high
        inside["peak"] += learned.peak.low <= true.peak_temperature.typical <= learned.peak.high
        left.append(math.log(learned.level.high / learned.level.low) / math.log(grip.strength.high / grip.strength.low))
    # 90 % of 150, binomial 99 %: 125 to 144
    assert all(123 <= n <= 146 for n in inside.values()), inside
    assert np.median(left) < 0.65


def test_coupons_count_for_the_side_they_were_printed_on_and_no_other() -> None:
    plate = Plate(key="one", name="One", front=PlateSide(prints=400), back=PlateSide(prints=400))
    base = small_bundle()
    process = Process.model_validate(
        base.project.process.model_dump() | {"plates": (plate.model_dump(),), "plate": "one", "side": "front"}
    )
    grip = library_grip(coupons_on(process, DAY))
    T = [grip.peak_temperature.typical + d for d in (-20.0, -10.0, 0.0)] * 3
    t = coupons_on(process, DAY)
    t = t.model_copy(update={"readings": tuple(CouponReading(temperature=v, force=1.0) for v in T)})
    forces = coupon_forces(t, grip)
    read = tuple(r.model_copy(update={"force": float(1.5 * f)}) for r, f in zip(t.readings, forces, strict=True))
    measured = base.project.measurements.model_copy(update={"trials": (t.model_copy(update={"readings": read}),)})

    def margin(**change: object) -> float:
        p = Process.model_validate(process.model_dump() | change)
        project = base.project.model_copy(update={"process": p, "measurements": measured})
        w = Results(Bundle(project, base.originals)).get(keys.EVALUATION).warp
        assert w is not None
        return w.margin

    front, back = margin(side="front"), margin(side="back")
    worn = plate.front.left().typical
    # the margin goes with the root of the energy or with the strength; both grew alike
    assert front > 1.15 * back / worn**0.5
    glued = margin(side="front", coating="glue")
    assert glued != pytest.approx(front), "another coating is another bond"
    dirty = margin(side="front", plate_state="finger_marks")
    assert dirty < front


def test_coupons_of_what_the_library_does_not_know_teach_nothing_and_say_why() -> None:
    t = coupons_on(Process(polymer="abs", surface="polyetherimide_smooth"), DAY)
    t = t.model_copy(update={"surface": "tacky_pla_petg", "readings": (CouponReading(temperature=330.0, force=50.0),)})
    found = learn([t])
    assert found.grips == {}
    assert "no grip of this polymer is known" in found.problems[0]
    with pytest.raises(InputError):
        trial_shown(t, found, None)


def test_what_was_learned_is_shown_before_and_after() -> None:
    t, _ = drawn(3)
    found = learn([t])
    assert [f.what.split(",")[0] for f in found.findings] == ["Grip of PETG", "It is best at"]
    assert found.trials == 1
    shown = trial_shown(t, found, None)
    assert shown.at.size == len(t.readings) == 10
    rms = [float(np.sqrt(np.mean(np.log(shown.read / v) ** 2))) for v in (shown.before, shown.after)]
    assert rms[1] <= rms[0] + 0.02
