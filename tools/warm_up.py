"""Compiles the numerical kernels into their cache by evaluating the demo once; quick when the cache is there."""

from __future__ import annotations

import sys
from importlib import resources

from mandorla.core.project.store import read_bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.run.simulated_machine import SimulatedMachine
from mandorla.core.run.watch import Watch
from mandorla.core.thermal.surface_history import surface_history
from mandorla.core.warp.fe_simulation import expected_seconds


def main() -> int:
    """Evaluate the demo; with ``--all`` run it in full, too."""
    with resources.as_file(resources.files("mandorla.data").joinpath("demo/boathouse.mandorla")) as path:
        bundle = read_bundle(path)
    results = Results(bundle)
    results.get(keys.EVALUATION)
    geometry = results.get(keys.GEOMETRY)
    if geometry is not None:
        expected_seconds(geometry.mesh, "draft", sheet=None)
    start = results.get(keys.WATCH_START)
    Watch(start.watched).take(SimulatedMachine(start.watched, 0).advance(20.0))
    surface_history(bundle.project.rig, bundle.project.settings, 60.0)
    if "--all" in sys.argv:
        results.get(keys.FULL_RUN.of(resolution="draft", bodies="all"))
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
