"""Compiles the numerical kernels into their cache by evaluating the demo once; quick when the cache is there."""

from __future__ import annotations

from importlib import resources

from mandorla.core.project.session import evaluate_bundle, geometry_of
from mandorla.core.project.store import read_bundle
from mandorla.core.thermal.surface_history import surface_history
from mandorla.core.warp.fe_simulation import expected_seconds


def main() -> int:
    """Evaluate the demo."""
    with resources.as_file(resources.files("mandorla.data").joinpath("demo/boathouse.mandorla")) as path:
        bundle = read_bundle(path)
    geometry = geometry_of(bundle)
    evaluate_bundle(bundle, geometry)
    if geometry is not None:
        expected_seconds(geometry.mesh, "draft", sheet=None)
    surface_history(bundle.project.rig, bundle.project.settings, 60.0)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
