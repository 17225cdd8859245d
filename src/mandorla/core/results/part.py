"""Results about the part itself."""

from __future__ import annotations

from mandorla.core.part.geometry import PartGeometry, geometry_of
from mandorla.core.project.store import Bundle
from mandorla.core.results.key import Key
from mandorla.core.results.keys import GEOMETRY
from mandorla.core.results.registry import Have, computes
from mandorla.core.runtime import RunContext


@computes(GEOMETRY)
def geometry(_: Key[PartGeometry | None], bundle: Bundle, __: Have, run: RunContext) -> PartGeometry | None:
    """The part's mesh and sections as it stands on the plate; None without a part."""
    source = bundle.project.part
    return None if source is None else geometry_of(source, bundle.originals)
