"""What trials have taught about polymers and a magnet: where the unknowns lie now, and how well they are known together."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Final

import numpy as np

from mandorla.core.materials.library_data import joint_kinds
from mandorla.core.materials.values import Value
from mandorla.core.part.mesh import Floats


@dataclass(frozen=True, slots=True)
class PolymerLearned:
    """Unknowns of a polymer after trials and prints, in standard deviations of before: ``mean`` (n,), ``covariance`` (n, n) and its
    symmetric ``root`` (n, n), in the order of ``names``; ``errors`` the ln size of those that are errors of the quick model."""

    names: tuple[str, ...]
    mean: Floats
    covariance: Floats
    root: Floats
    errors: Mapping[str, float] = field(default_factory=dict)

    def spread_out(self, z: Mapping[str, float]) -> dict[str, float]:
        """Unknowns as they were before from independent ones as they are known now; those that no trial touched stay."""
        now = self.root @ np.array([z.get(name, 0.0) for name in self.names])
        return {**z, **{name: float(v) for name, v in zip(self.names, now, strict=True)}}

    def share_of(self, name: str) -> float:
        """Standard deviation of an unknown that is left, of that before."""
        i = self.names.index(name)
        return float(np.sqrt(self.covariance[i, i]))


@dataclass(frozen=True, slots=True)
class MagnetLearned:
    """A magnet's pull on the sheet (Pa) and the width of a pair of its poles (m), as they are known now."""

    pull: Value
    pole_width: Value


@dataclass(frozen=True, slots=True)
class GripLearned:
    """Grip of a polymer on a side as coupons say: ``level`` over the library's, ``peak`` K, ``cold`` fraction, each with its 90 %
    range, and how many coupons it is from."""

    level: Value
    peak: Value
    cold: Value
    coupons: int


@dataclass(frozen=True, slots=True)
class Finding:
    """One figure before and after trials, with its kind (units.KINDS) and what it is of (a polymer's key; empty: the magnet)."""

    what: str
    kind: str
    of: str
    before: Value
    after: Value

    @property
    def left(self) -> float:
        """Share of its range that is left, in the logarithm."""
        before, after = (np.log(v.high / v.low) for v in (self.before, self.after))
        return float(after / before) if before > 0.0 else 1.0


@dataclass(frozen=True, slots=True)
class Learned:
    """What trials have taught: by polymer, of the magnet (None: nothing), of the ``grips`` of sides (by coupons.place_key), how
    many trials and prints it is from, in figures; why others taught nothing."""

    polymers: Mapping[str, PolymerLearned] = field(default_factory=dict)
    magnet: MagnetLearned | None = None
    grips: Mapping[str, GripLearned] = field(default_factory=dict)
    trials: int = 0
    findings: tuple[Finding, ...] = ()
    problems: tuple[str, ...] = ()
    prints: int = 0


NOTHING: Final = Learned()


def magnet_of(learned: Learned) -> MagnetLearned:
    """The magnet as it is known: from trials, else the library's range."""
    if learned.magnet is not None:
        return learned.magnet
    kind = joint_kinds()["magnetic"]
    assert kind.pull is not None
    assert kind.pole_width is not None
    return MagnetLearned(kind.pull, kind.pole_width)
