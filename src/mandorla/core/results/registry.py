"""The registry: which function computes which result.

Keys are declared light in :mod:`mandorla.core.results.keys`, for a window knows them before the numerics have loaded; the functions
stand in one module an area and are bound here.
"""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import TYPE_CHECKING, Any, Final, Protocol, TypeVar

from mandorla.core.project.store import Bundle
from mandorla.core.results.key import Key
from mandorla.core.runtime import RunContext

if TYPE_CHECKING:
    from mandorla.core.logbook.learning import Experience
    from mandorla.core.results.types import Judgement

T = TypeVar("T")
AREAS: Final = (
    "part",
    "heat",
    "warp",
    "tune",
    "suggestions",
    "levers",
    "openers",
    "verify",
    "learned",
    "plates",
    "first_layer",
    "energy",
    "strategies",
    "optimum",
    "run",
    "log_entry",
    "explained",
)


class Have(Protocol):
    """Gives a result that was declared as needed, and the results of a project beside this one."""

    def __call__(self, key: Key[T]) -> T: ...

    @property
    def experience(self) -> Experience | None:
        """What the workshop's prints have taught."""
        ...

    def beside(self, bundle: Bundle, /) -> Asked:
        """The results of another state, on the same shelf: what is computed there is known once the project becomes that state."""
        ...


class Asked(Protocol):
    """Results by key, as :class:`mandorla.core.results.results.Results` gives them."""

    def get(self, key: Key[T], run: RunContext | None = None) -> T: ...

    def judgement_key(self) -> Key[Judgement]: ...


Compute = Callable[[Key[Any], Bundle, Have, RunContext], Any]
_FUNCTIONS: Final[dict[str, Compute]] = {}


def computes(key: Key[T]) -> Callable[[Callable[[Key[T], Bundle, Have, RunContext], T]], Compute]:
    """Bind the function that computes a result.

    The function gets the key with its parameters, the project, the results that the key needs, and the run that reports and
    cancels.

    Raises
    ------
    ValueError
        Where another function computes it already.
    """

    def register(function: Callable[[Key[T], Bundle, Have, RunContext], T]) -> Compute:
        if key.name in _FUNCTIONS:
            raise ValueError(f"two functions compute {key.name!r}")
        _FUNCTIONS[key.name] = function
        return function

    return register


def forget(key: Key[Any]) -> None:
    """Remove a result again, for tests that add one."""
    del _FUNCTIONS[key.name]


def function_of(key: Key[Any]) -> Compute:
    """The function of a result; loads the numerics at the first call. Raises KeyError for a name that nothing computes."""
    if key.name not in _FUNCTIONS:
        for area in AREAS:
            import_module(f"mandorla.core.results.{area}")
    return _FUNCTIONS[key.name]
