"""What is not known about a print, as standard normal unknowns: a part and its temperatures moved by some standard deviations."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from math import exp
from typing import TYPE_CHECKING, Final

from mandorla.core.materials.values import Value
from mandorla.core.warp.adhesion import adhesion_of

if TYPE_CHECKING:
    from mandorla.core.materials.library_data import Polymer
    from mandorla.core.materials.plate_library import Adhesion
    from mandorla.core.warp.estimate import Conditions, PartToPrint
    from mandorla.core.warp.learned import Learned, PolymerLearned

Z90: Final = 1.6448536269514722  # standard deviations at the ends of a 90 % range
GRIP, EXPANSION, STIFFNESS = "grip on the plate", "thermal expansion", "stiffness"
STRESS_FREE, CREEP, CRYSTALS = "stress-free temperature", "stress relaxation", "share of the crystals"
PLATE, CHAMBER, JOINTS, MAGNET = "plate temperature", "chamber temperature", "strength between layers", "magnet's pull"
MODEL: Final = "quick model's own error"
HOLD_ERROR, CRACK_ERROR = f"{MODEL}, margin", f"{MODEL}, crack"
# unknowns that change the part's mechanics: each costs an estimate of its own
MOVED: Final = (GRIP, EXPANSION, STIFFNESS, STRESS_FREE, CREEP, CRYSTALS, PLATE, CHAMBER)
TESTS: Final[Mapping[str, str]] = {
    GRIP: "pull small coupons off this side at several plate temperatures (Verify, Film, magnet, grip)",
    EXPANSION: "print a bar on a stiff plate, take it off and measure how much shorter it is than drawn",
    STIFFNESS: "load a printed bar in bending and note how far it goes",
    STRESS_FREE: "warm a printed bar step by step and note when it stops curling back",
    CREEP: "clamp a bent printed bar at the chamber's temperature for an hour and note the bend that stays",
    CRYSTALS: "load a printed bar in bending while it is warm and note how far it goes",
    PLATE: "measure the surface at the part's corners when soaked (stage Verify)",
    CHAMBER: "hang a probe beside the part for an hour of the print (stage Verify)",
    JOINTS: "print an upright bar with these layer times and break it across its layers",
    MAGNET: "pull the bare sheet off at a corner with a spring scale",
    MODEL: "run the full simulation, it takes this error out",
}  # fmt: skip


def _at(value: Value, z: float) -> Value:
    """A value at z standard deviations: geometric between low, typical and high at 90 %."""
    if value.typical <= 0.0:
        return value
    end = value.high if z > 0.0 else value.low
    return replace(value, typical=float(value.typical * (max(end, 1e-12) / value.typical) ** (abs(z) / Z90)))


def moved_polymer(p: Polymer, z: Mapping[str, float]) -> Polymer:
    """A polymer with what makes its film stress at ``z`` standard deviations of its ranges."""
    if EXPANSION in z:
        p = replace(p, expansion=_at(p.expansion, z[EXPANSION]))
    if STIFFNESS in z:  # of the polymer, and of printed lines over it
        p = replace(p, modulus=_at(p.modulus, z[STIFFNESS]), bead_factor=_at(p.bead_factor, z[STIFFNESS] * BEADS_SHARE))
    if STRESS_FREE in z:
        free, by = p.stress_free_temperature, z[STRESS_FREE] / Z90
        shift = by * (free.high - free.typical if by > 0.0 else free.typical - free.low)
        p = replace(p, stress_free_temperature=replace(free, typical=free.typical + shift))
    if CREEP in z:
        p = replace(
            p, relaxation_time=_at(p.relaxation_time, z[CREEP]), creep_activation=_at(p.creep_activation, z[CREEP])
        )
    if CRYSTALS in z:
        p = replace(p, crystal_plateau=_at(p.crystal_plateau, z[CRYSTALS]))
    return p


def scaled(before: Value, now: Value) -> Value:
    """A value about another typical figure, its range with it."""
    if before.typical <= 0.0:
        return before
    factor = now.typical / before.typical
    return replace(before, low=before.low * factor, typical=now.typical, high=before.high * factor)


def recentred(p: Polymer, learned: Learned) -> Polymer:
    """A polymer about what trials have taught of it: typical figures move, and their ranges with them."""
    known = learned.polymers.get(p.key)
    if known is None:
        return p
    there = moved_polymer(p, dict(zip(known.names, (float(v) for v in known.mean), strict=True)))

    free, shift = p.stress_free_temperature, there.stress_free_temperature.typical - p.stress_free_temperature.typical
    joints = moved_joints(p.joint_energy, dict(zip(known.names, (float(v) for v in known.mean), strict=True)), known)
    return replace(
        p, joint_energy=scaled(p.joint_energy, joints), expansion=scaled(p.expansion, there.expansion),
        modulus=scaled(p.modulus, there.modulus),
        bead_factor=scaled(p.bead_factor, there.bead_factor), relaxation_time=scaled(p.relaxation_time, there.relaxation_time),
        creep_activation=scaled(p.creep_activation, there.creep_activation),
        crystal_plateau=scaled(p.crystal_plateau, there.crystal_plateau),
        stress_free_temperature=replace(free, low=free.low + shift, typical=free.typical + shift, high=free.high + shift),
    )  # fmt: skip


def moved_joints(energy: Value, z: Mapping[str, float], known: PolymerLearned | None) -> Value:
    """What joints take, at ``z`` standard deviations; an error of the crack index counts as if it were theirs."""
    error = known.errors.get(CRACK_ERROR, 0.0) * z.get(CRACK_ERROR, 0.0) if known is not None else 0.0
    return _at(energy, z.get(JOINTS, 0.0)).times(Value(*(exp(-2.0 * error),) * 3, energy.source))


def moved_grip(grip: Adhesion, z: Mapping[str, float], known: PolymerLearned | None) -> Adhesion:
    """A grip at ``z`` standard deviations; an error of the hold margin counts as if it were the grip's."""
    factor = exp(known.errors.get(HOLD_ERROR, 0.0) * z.get(HOLD_ERROR, 0.0)) if known is not None else 1.0
    strength, energy = _at(grip.strength, z.get(GRIP, 0.0)), _at(grip.fracture_energy, z.get(GRIP, 0.0))
    return replace(
        grip, strength=replace(strength, typical=strength.typical * factor),
        fracture_energy=replace(energy, typical=energy.typical * factor**2),
    )  # fmt: skip


def recentred_grip(grip: Adhesion, polymer: str, learned: Learned) -> Adhesion:
    """A grip about what prints have taught of it: typical figures move, and their ranges with them."""
    known = learned.polymers.get(polymer)
    if known is None or GRIP not in known.names:
        return grip
    there = moved_grip(grip, dict(zip(known.names, (float(v) for v in known.mean), strict=True)), known)

    return replace(
        grip, strength=scaled(grip.strength, there.strength),
        fracture_energy=scaled(grip.fracture_energy, there.fracture_energy),
    )  # fmt: skip


def moved(part: PartToPrint, at: Conditions, z: Mapping[str, float]) -> tuple[PartToPrint, Conditions]:
    """A part and its conditions with unknowns at ``z`` standard deviations; those that are not named stay typical.

    Where trials have taught something of the polymer, a standard deviation is that of what is known now, all unknowns that they
    tie together moving as one.
    """
    known = part.learned.polymers.get(part.process.polymer)
    if known is not None:
        z = known.spread_out(z)
    p, key = part.polymer, part.process.polymer
    grip = adhesion_of(part.surface, key)
    surface = part.surface
    if GRIP in z or HOLD_ERROR in z:
        held = moved_grip(grip, z, known)
        surface = replace(surface, grip={**surface.grip, key: held})
    p = moved_polymer(p, z)
    if JOINTS in z or CRACK_ERROR in z:
        p = replace(p, joint_energy=moved_joints(p.joint_energy, z, known))
    if PLATE in z or CHAMBER in z:
        warmer, air = z.get(PLATE, 0.0) / Z90 * at.plate_within, z.get(CHAMBER, 0.0) / Z90 * at.chamber_within
        at = replace(
            at, plate_first=at.plate_first + warmer, plate_rest=at.plate_rest + warmer, corner_plate=at.corner_plate + warmer,
            chamber=at.chamber + air,
        )  # fmt: skip
    return replace(part, polymer=p, surface=surface), at


BEADS_SHARE: Final = 0.8  # moduli of polymer and of its lines move together for the most part
