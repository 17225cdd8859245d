"""A machine from a few facts, a block of ABS, the first answer, and what is least known behind it."""

from __future__ import annotations

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import trimesh

import mandorla


def main() -> int:
    """Print the answer."""
    with TemporaryDirectory() as folder:
        mesh = Path(folder) / "block.stl"
        trimesh.creation.box(extents=np.array([160.0, 60.0, 30.0])).export(mesh)
        study = mandorla.begin({"kind": "closed", "width": 0.3, "depth": 0.3, "heater": 600.0}, "abs", mesh)
    print(study)
    print(study.headline())
    for row in study.explain("hold_margin").uncertain:
        print(f"  {row.name}: {row.low:.2f} to {row.high:.2f}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
