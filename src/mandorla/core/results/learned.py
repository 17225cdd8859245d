"""What trials have taught, as one explicit input of the predictions; the trials beside what the model says of them."""

from __future__ import annotations

from mandorla.core.errors import InputError
from mandorla.core.logbook.applied import place_of, with_prints
from mandorla.core.logbook.learning import Joint, joint_of
from mandorla.core.measure.trials import CouponTrial, FeelerTrial
from mandorla.core.part.process import Placement, Process
from mandorla.core.project.store import Bundle
from mandorla.core.results import keys
from mandorla.core.results.key import Key
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext
from mandorla.core.tune.operating_point import bare_plate, moving_air, prepare_part
from mandorla.core.warp.learned import NOTHING, Learned
from mandorla.core.warp.simulated_trials import Drawn, draw_trial
from mandorla.core.warp.trials import OnSheet, TrialShown, learn, trial_shown


def on_sheet(bundle: Bundle, have: Have) -> OnSheet | None:
    """The part and the bed that feeler trials are read under; None without a part."""
    p, geometry = bundle.project, have(keys.GEOMETRY)
    if geometry is None:
        return None
    part = prepare_part(geometry.sections, p.process, geometry.file)
    placement = p.part.placement if p.part is not None else Placement()
    return OnSheet(
        part, p.rig.bed, placement, p.rig.room_temperature, bare_plate(p.rig, part.whole), moving_air(p.rig, p.settings)
    )


@computes(keys.LEARNED)
def learned(_: Key[Learned], bundle: Bundle, have: Have, run: RunContext) -> Learned:
    """What the project's trials and the workshop's prints teach about film stress, grip, joints and magnet."""
    p = bundle.project
    used = [t for t in p.measurements.trials if t.used and t.readings]
    feels = any(isinstance(t, FeelerTrial) for t in used)
    found = learn(used, on_sheet(bundle, have) if feels else None) if used else NOTHING
    experience = have.experience
    if experience is None or not p.criteria.from_prints or p.process.polymer not in p.process.plate_surface().grip:
        return found
    return with_prints(found, experience, p.process, p.rig.name)


@computes(keys.EXPERIENCE_HERE)
def here(_: Key[Joint | None], bundle: Bundle, have: Have, run: RunContext) -> Joint | None:
    """What prints say of this machine, surface and polymer, whether predictions use it or not; None without a print."""
    experience, p = have.experience, bundle.project
    if experience is None or not experience.prints or p.process.polymer not in p.process.plate_surface().grip:
        return None
    return joint_of(experience, place_of(p.process, p.rig.name))


@computes(keys.TRIALS)
def shown(_: Key[dict[str, TrialShown]], bundle: Bundle, have: Have, run: RunContext) -> dict[str, TrialShown]:
    """Every trial by its key: what was read, and what the model says before and after; those that the model cannot be asked about
    are left out."""
    trials, found = bundle.project.measurements.trials, {}
    on = on_sheet(bundle, have) if any(isinstance(t, FeelerTrial) for t in trials) else None
    for trial in trials:
        try:
            found[trial.key] = trial_shown(trial, have(keys.LEARNED), on)
        except InputError:  # said by what was learned (its problems)
            continue
    return found


def coupons_on(process: Process, day: str, key: str = "trial-1", name: str = "Pull-off coupons") -> CouponTrial:
    """A trial of coupons on what lies under the part now."""
    return CouponTrial(
        key=key, name=name, date=day, polymer=process.polymer, on_plate=process.plate, on_side=process.side,
        surface=process.surface_key, coating=process.coating,
    )  # fmt: skip


@computes(keys.PRACTICE_TRIAL)
def practice(key: Key[Drawn], bundle: Bundle, have: Have, run: RunContext) -> Drawn:
    """Readings of a made-up machine, drawn by a seed, for practice. Raises InputError for a feeler without a part."""
    p = bundle.project
    on = on_sheet(bundle, have) if key["kind"] == "feeler" else None
    if key["kind"] == "feeler" and on is None:
        raise InputError("A feeler trial needs the part that is printed: open one first.")
    pulled_off = coupons_on(p.process, key["day"]) if key["kind"] == "coupon" else None
    return draw_trial(
        key["kind"], p.process.polymer, p.settings.bed_rest, p.settings.chamber, key["seed"], key["day"], on,
        pulled_off=pulled_off,
    )  # fmt: skip
