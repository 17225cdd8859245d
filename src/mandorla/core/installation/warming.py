"""Compiles the numerical kernels into their cache, once an installation, so that the first edit does not wait for it."""

from __future__ import annotations

from importlib import resources

from mandorla.core.installation.mark import keep_mark
from mandorla.core.kernel_sources import forget_older
from mandorla.core.project.store import read_bundle
from mandorla.core.results import keys
from mandorla.core.results.results import Results
from mandorla.core.run.simulated_machine import SimulatedMachine
from mandorla.core.run.watch import Watch
from mandorla.core.runtime import RunContext
from mandorla.core.thermal.surface_history import surface_history
from mandorla.core.warp.fe_simulation import expected_seconds


def warm(run: RunContext | None = None, *, in_full: bool = False) -> None:
    """Evaluate the demo once; quick when the cache is there. ``in_full`` runs it in full, too. Raises :class:`Cancelled`."""
    run = run or RunContext()
    with resources.as_file(resources.files("mandorla.data").joinpath("demo/boathouse.mandorla")) as path:
        bundle = read_bundle(path)
    results = Results(bundle)
    run.checkpoint(0.0, "quick models")
    results.get(keys.EVALUATION)
    run.checkpoint(0.5, "full simulation")
    geometry = results.get(keys.GEOMETRY)
    if geometry is not None:
        expected_seconds(geometry.mesh, "draft", sheet=None)
    run.checkpoint(0.7, "watching a run")
    start = results.get(keys.WATCH_START)
    Watch(start.watched).take(SimulatedMachine(start.watched, 0).advance(20.0))
    run.checkpoint(0.9, "surface maps")
    surface_history(bundle.project.rig, bundle.project.settings, 60.0)
    if in_full:
        results.get(keys.FULL_RUN.of(resolution="draft", bodies="all"))
    run.checkpoint(1.0, "done")
    forget_older()
    keep_mark()
