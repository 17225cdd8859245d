"""What is known already of a part whose grip, expansion or modulus is another: the bonded answer is linear in what contracts, and
moduli that grow together change no strain. No print history, relaxation or strip is computed twice."""

from __future__ import annotations

from collections.abc import Set
from dataclasses import fields, replace
from typing import TYPE_CHECKING, Final

if TYPE_CHECKING:
    from mandorla.core.warp.estimate import Demand, LayerMechanics, PartToPrint

_MODULI: Final = frozenset({"modulus", "bead_factor"})


def _changed(there: PartToPrint, part: PartToPrint) -> Set[str]:
    """Fields in which the polymers of two parts differ."""
    a, b = there.polymer, part.polymer
    return set() if a is b else {f.name for f in fields(a) if getattr(a, f.name) is not getattr(b, f.name)}


def demand_from(there: PartToPrint, part: PartToPrint, demand: Demand) -> Demand | None:
    """The bonded answer of a part from that of another one at the same temperatures, None where it has to be computed: where more
    than grip and expansion differ."""
    changed = _changed(there, part)
    if not changed:
        return demand
    if changed != {"expansion"}:
        return None
    k = there.polymer.expansion.typical / part.polymer.expansion.typical
    body, strips = demand.body, demand.strips
    return replace(
        demand, peel=k * demand.peel,
        body=replace(
            body, fresh=k * body.fresh, late=k * body.late, cooling=k * body.cooling, contracted=k * body.contracted
        ),
        strips=(strips[0].times(k), strips[1].times(k)),
    )  # fmt: skip


def body_from(there: PartToPrint, part: PartToPrint, body: LayerMechanics) -> LayerMechanics | None:
    """Moduli and contractions of a part from those of another one at the same temperatures, None where they have to be computed:
    where more differs than moduli that grow together."""
    if not _changed(there, part) <= _MODULI:
        return None
    k = (there.polymer.modulus.typical * there.polymer.bead_factor.typical) / (
        part.polymer.modulus.typical * part.polymer.bead_factor.typical
    )
    return replace(body, E_print=k * body.E_print, E_cold=k * body.E_cold)
