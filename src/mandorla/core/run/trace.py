"""A trace that never grows: the last minutes as they came, what is older as extremes of ever longer spans."""

from __future__ import annotations

from typing import Final

import numpy as np

from mandorla.core.part.mesh import Floats

SPANS: Final = 4096  # that a trace keeps; two become one where they are full


class Trace:
    """Columns (m, c) over time. ``spans`` hold the first time, the lowest, the highest and the last of what fell into each."""

    def __init__(self, columns: int, width: float = 1.0) -> None:
        self.width = width  # s of a span
        self._time = np.empty(SPANS)
        self._low, self._high, self._last = (np.full((SPANS, columns), np.nan) for _ in range(3))
        self._n = 0

    def add(self, time: Floats, values: Floats) -> None:
        """Append rows (m,) s, (m, c) in their order."""
        for t, row in zip(time, values, strict=True):
            if self._n and t < self._time[self._n - 1] + self.width:
                k = self._n - 1
                self._low[k], self._high[k] = np.fmin(self._low[k], row), np.fmax(self._high[k], row)
                self._last[k] = np.where(np.isnan(row), self._last[k], row)
                continue
            if self._n == SPANS:
                self._halve()
            k = self._n
            self._time[k], self._low[k], self._high[k], self._last[k] = t, row, row, row
            self._n += 1

    def _halve(self) -> None:
        half = SPANS // 2
        self._time[:half] = self._time[::2]
        self._low[:half] = np.fmin(self._low[::2], self._low[1::2])
        self._high[:half] = np.fmax(self._high[::2], self._high[1::2])
        second, first = self._last[1::2].copy(), self._last[::2].copy()
        self._last[:half] = np.where(np.isnan(second), first, second)
        self._n, self.width = half, 2.0 * self.width

    @property
    def time(self) -> Floats:
        """When each span begins (n,) s."""
        return self._time[: self._n]

    def last(self, column: int) -> Floats:
        """The last value (n,) of a column in each span."""
        return self._last[: self._n, column]

    def line(self, column: int) -> tuple[Floats, Floats]:
        """A line (k,) s, (k,) that shows every extreme of a column: the lowest and the highest of each span, once where they
        agree."""
        t = np.repeat(self.time, 2)
        t[1::2] += 0.5 * self.width
        v = np.stack([self._low[: self._n, column], self._high[: self._n, column]], axis=1).ravel()
        keep = np.isfinite(v)
        keep[1::2] &= v[1::2] != v[::2]
        return t[keep], v[keep]
