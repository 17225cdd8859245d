"""Mandorla: thermal design, warp prediction and tuning for large or hot 3D-printed parts."""

import os
from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from mandorla.api import MandorlaError, Study, begin, demo, open_project, result_keys

__all__ = ["MandorlaError", "Study", "__version__", "begin", "demo", "open_project", "result_keys"]
__version__ = "0.2.0"

# Matrices here are small: threads of the linear algebra library cost more than they bring (a draft simulation 3.0 s, 1.9 s with
# one), compete with jobs that run side by side, and make the last digits depend on the number of cores. Before numpy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")


def __getattr__(name: str) -> Any:
    """The library's names load when they are first used: a command starts without them."""
    if name in __all__:
        return getattr(import_module("mandorla.api"), name)
    raise AttributeError(f"module 'mandorla' has no attribute {name!r}")
