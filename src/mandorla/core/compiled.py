"""One typed door to numba: serial kernels that release the interpreter lock and are cached on disk."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import TypeVar, cast

from mandorla.core.kernel_sources import ASKED, kept_in

F = TypeVar("F", bound=Callable[..., object])

os.environ[ASKED] = str(kept_in(os.environ.get(ASKED, "")))

import numba  # noqa: E402  (after the cache folder is chosen)


def compiled(function: F) -> F:
    """Compile a kernel in serial, without the interpreter lock, cached on disk."""
    return cast(F, numba.njit(cache=True, nogil=True, error_model="numpy")(function))
