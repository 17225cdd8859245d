"""One typed door to numba: serial kernels that release the interpreter lock and are cached on disk."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar, cast

F = TypeVar("F", bound=Callable[..., object])


def _choose_cache_folder() -> None:
    # numba writes beside the source by default; an installed package may be read-only.
    package = Path(__file__).resolve().parent
    if "NUMBA_CACHE_DIR" not in os.environ and not os.access(package, os.W_OK):
        from platformdirs import user_cache_path  # needed only on read-only installs

        os.environ["NUMBA_CACHE_DIR"] = str(user_cache_path("mandorla") / "numba")


_choose_cache_folder()

import numba  # noqa: E402  (after the cache folder is chosen)


def compiled(function: F) -> F:
    """Compile a kernel in serial, without the interpreter lock, cached on disk."""
    return cast(F, numba.njit(cache=True, nogil=True, error_model="numpy")(function))
