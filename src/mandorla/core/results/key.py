"""What names a result: its key with parameters, what of the project it reads, which results it needs, how costly it is."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass, field, replace
from enum import IntEnum
from typing import Any, Generic, TypeVar

T_co = TypeVar("T_co", covariant=True)


class Cost(IntEnum):
    """How long a result takes, which decides when it is computed beside an interface.

    QUICK follows every edit at once; SHORT (up to some seconds) waits for a pause in editing; BACKGROUND waits until hands rest and
    nothing else is due; ON_DEMAND is started by a person only, and its last value is kept when the project moves on.
    """

    QUICK = 0
    SHORT = 1
    BACKGROUND = 2
    ON_DEMAND = 3


def nothing_needed(_: Key[Any]) -> tuple[Key[Any], ...]:
    """No other result is needed."""
    return ()


@dataclass(frozen=True)
class Key(Generic[T_co]):
    """A result by name and parameters; equal when both are.

    ``reads`` are paths of the project; a part in braces stands for the parameter of that name, the item of a list whose key or name
    it is. ``needs`` gives the results that it is made from; ``learns`` says that it also depends on the workshop's prints.
    """

    name: str
    title: str = field(compare=False)
    reads: tuple[str, ...] = field(compare=False)
    cost: Cost = field(compare=False)
    needs: Callable[[Key[Any]], tuple[Key[Any], ...]] = field(default=nothing_needed, compare=False)
    parameters: tuple[tuple[str, Hashable], ...] = ()
    learns: bool = field(default=False, compare=False)

    def of(self, **parameters: Hashable) -> Key[T_co]:
        """The same result for other parameters."""
        return replace(self, parameters=tuple(sorted({**dict(self.parameters), **parameters}.items())))

    def __getitem__(self, parameter: str) -> Any:
        """A parameter's value. Raises KeyError."""
        return dict(self.parameters)[parameter]

    def __str__(self) -> str:
        given = ", ".join(f"{k}={v}" for k, v in self.parameters)
        return f"{self.name}({given})" if given else self.name
