"""Timed logs from CSV text under a mapping: a preview, and the reading itself with everything that was odd told.

Nothing is dropped in silence: what cannot be read becomes a hole and is counted with its first line.
"""

from __future__ import annotations

import csv
import io
import math
import re
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.errors import InputError, Problem
from mandorla.core.measure.log_cells import FORMS, moment, number, text_of
from mandorla.core.measure.models import LogChannel, LogMapping
from mandorla.core.thermal.stack import Floats

PREVIEW: Final = 40
_SCALE: Final = {
    "°C": (1.0, 273.15), "°F": (1.0 / 1.8, 273.15 - 32.0 / 1.8), "K": (1.0, 0.0), "W": (1.0, 0.0), "kW": (1e3, 0.0),
    "Wh": (3600.0, 0.0), "kWh": (3.6e6, 0.0), "J": (1.0, 0.0), "%": (0.01, 0.0), "1": (1.0, 0.0), "": (1.0, 0.0),
}  # fmt: skip
_TO_SECONDS: Final = {"s": 1.0, "min": 60.0, "h": 3600.0, "ms": 1e-3, "unix": 1.0}


@dataclass(frozen=True, slots=True)
class LogData:
    """A log in SI: ``time`` (m,) s from the start of heating, increasing; ``values`` (m,) a channel; what was odd."""

    time: Floats
    channels: tuple[LogChannel, ...]
    values: tuple[Floats, ...]
    oddities: tuple[str, ...]

    def of(self, place: str, what: str = "temperature") -> tuple[tuple[LogChannel, Floats], ...]:
        """The channels of a place."""
        pairs = zip(self.channels, self.values, strict=True)
        return tuple((c, v) for c, v in pairs if c.place == place and c.what == what)


@dataclass(frozen=True, slots=True)
class Preview:
    """The first lines of a log: their cells as text, the first one's number, what is odd about them, why they are ``refused``."""

    cells: tuple[tuple[str, ...], ...]
    first_line: int
    problems: tuple[str, ...]
    refused: str = ""


def preview(data: bytes, name: str, mapping: LogMapping) -> Preview:
    """The first lines under a mapping, with what would be odd about them."""
    lines = text_of(data[: 64 * 1024], name).splitlines()[: mapping.header_lines + PREVIEW]
    rows = list(csv.reader(io.StringIO("\n".join(lines)), delimiter=mapping.delimiter, skipinitialspace=True))
    problems: tuple[str, ...] = ()
    refused = ""
    try:
        problems = read_log("\n".join(lines).encode(), name, mapping).oddities
    except InputError as error:
        problems, refused = (str(error),), str(error).splitlines()[0]
    return Preview(tuple(tuple(r) for r in rows[mapping.header_lines :]), mapping.header_lines + 1, problems, refused)


@dataclass(frozen=True, slots=True)
class _Cells:
    """Columns of a log by position: figures where all of one could be read at once, else text; ``count`` rows, ``short`` ones."""

    columns: dict[int, Floats | list[str]]
    count: int
    short: int
    first_short: int


def _wanted(mapping: LogMapping) -> list[int]:
    wanted = {c.column for c in mapping.channels if c.what != "nothing"}
    return sorted(wanted | {c for c in (mapping.time_column, mapping.date_column) if c >= 0})


def _at_once(text: str, mapping: LogMapping) -> _Cells | None:
    """A tidy log by NumPy's reader, a million lines a second; None for one that is not tidy."""
    wanted = _wanted(mapping)
    if not wanted:
        return None
    words = (mapping.time_column, mapping.date_column) if mapping.time_form in FORMS else ()
    if mapping.decimal == ",":
        text = text.replace(",", ".")
    d = mapping.delimiter
    if d != " " and (d + d in text or d + "\n" in text):
        text = text.replace(d + d, f"{d}nan{d}").replace(d + d, f"{d}nan{d}").replace(d + "\n", f"{d}nan\n")
    if not any(line.strip() for line in text.split("\n")[mapping.header_lines :]):
        return None  # nothing below the heads
    kinds = np.dtype([(f"c{c}", "U26" if c in words else "f8") for c in wanted])
    try:
        table = np.loadtxt(
            io.StringIO(text), dtype=kinds, delimiter=None if d == " " else d, skiprows=mapping.header_lines, usecols=wanted,
            comments=None, ndmin=1,
        )  # fmt: skip
    except ValueError:
        return None
    columns: dict[int, Floats | list[str]] = {
        c: table[f"c{c}"].tolist() if c in words else np.ascontiguousarray(table[f"c{c}"]) for c in wanted
    }
    return _Cells(columns, int(table.size), 0, 0) if table.size else None


def _columns(text: str, mapping: LogMapping, name: str) -> _Cells:
    """All wanted columns, quickly where the log is tidy, line by line where it is not."""
    tidy = _at_once(text, mapping)
    if tidy is not None:
        return tidy
    body = io.StringIO(text)
    for _ in range(mapping.header_lines):
        body.readline()
    reader = csv.reader(body, delimiter=mapping.delimiter, skipinitialspace=True)
    try:
        rows = [r for r in reader if r]
    except csv.Error as error:
        line = mapping.header_lines + reader.line_num
        raise InputError(
            f"“{name}”, line {line}: {error}.",
            problems=(Problem(f"line {line}", "a quotation mark without its mate?", "plain cells"),),
        ) from error
    wanted = _wanted(mapping)
    need = max(wanted, default=0) + 1
    if not rows:
        raise InputError(f"“{name}” holds no lines below its heading.")
    short = [i for i, r in enumerate(rows) if len(r) < need]
    if len(short) > 0.5 * len(rows):
        raise InputError(
            f"“{name}”: most lines have fewer than {need} columns when “{mapping.delimiter}” separates them.",
            problems=(
                Problem(f"line {mapping.header_lines + short[0] + 1}", str(rows[short[0]])[:60], f"{need} columns"),
            ),
        )
    for i in short:
        rows[i] = rows[i] + [""] * (need - len(rows[i]))
    first = (mapping.header_lines + short[0] + 1) if short else 0
    return _Cells({c: [r[c] for r in rows] for c in wanted}, len(rows), len(short), first)


def _figures(cells: Floats | list[str], decimal: str) -> Floats:
    """A column as numbers, NaN where there is none; the quick way first."""
    if isinstance(cells, np.ndarray):
        return cells
    try:
        if decimal == ".":
            return np.array(cells, dtype=np.float64)
        if not any("." in c for c in cells):  # dots may group thousands or be decimals after all: cell by cell then
            return np.array("\n".join(cells).replace(",", ".").split("\n"), dtype=np.float64)
    except ValueError:
        pass  # some cell is no number: one by one then
    found = np.empty(len(cells))
    for i, cell in enumerate(cells):
        try:
            found[i] = number(cell, decimal)
        except ValueError:
            found[i] = math.nan
    return found


_ISO: Final = re.compile(
    r"\s*\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:\.\d{1,9})?)?)?Z?\s*"
)  # all that NumPy reads as meant


def _moments(cells: Floats | list[str], form: str) -> Floats:
    """A column of moments as seconds, NaN where there is none; ISO ones of one length all at once."""
    assert isinstance(cells, list)
    if form == "iso" and "-" in cells[0] and all(_ISO.fullmatch(c) for c in cells):
        try:
            tidy = np.array([c.strip().rstrip("Z") for c in cells])
            return np.asarray(tidy.astype("datetime64[ms]").astype(np.int64) * 1e-3, dtype=np.float64)
        except ValueError:
            pass  # some cell is no moment: one by one then
    elif form in ("day first", "clock", "month first"):
        quick = _sliced(cells, form)
        if quick is not None:
            return quick
    found = np.empty(len(cells))
    for i, cell in enumerate(cells):
        try:
            found[i] = moment(cell, form)
        except ValueError:
            found[i] = math.nan
    return found


def _sliced(cells: list[str], form: str) -> Floats | None:
    """Moments of one fixed layout by cutting all cells at once; None where they are not alike."""
    width = len(cells[0])
    if width != (8 if form == "clock" else 19) or any(len(c) != width for c in cells):
        return None
    digits = np.array(cells, dtype=f"U{width}").view(np.int32).reshape(len(cells), width) - ord("0")

    def cut(a: int, b: int) -> Floats:
        piece = digits[:, a:b]
        if piece.min() < 0 or piece.max() > 9:
            raise ValueError("no digits there")
        return np.asarray(piece @ 10.0 ** np.arange(b - a - 1, -1, -1))

    try:
        if form == "clock":
            return np.asarray(3600.0 * cut(0, 2) + 60.0 * cut(3, 5) + cut(6, 8))
        day, month = (cut(0, 2), cut(3, 5)) if form == "day first" else (cut(3, 5), cut(0, 2))
        months = (cut(6, 10) - 1970.0) * 12.0 + month - 1.0
        days = months.astype(np.int64).astype("datetime64[M]").astype("datetime64[D]").astype(np.int64) + day - 1.0
        return np.asarray(86400.0 * days + 3600.0 * cut(11, 13) + 60.0 * cut(14, 16) + cut(17, 19))
    except ValueError:
        return None


LONGEST_LOG: Final = 1e11  # s; moments of a calendar are counted from 1970
MOST_FIGURE: Final = 1e9  # of any channel, SI
_MOST: Final = {"temperature": 3000.0}  # K


def read_log(data: bytes, name: str, mapping: LogMapping) -> LogData:
    """A log under its mapping, whole.

    Lines out of order are sorted, a repeated moment keeps its first line, clocks that pass midnight go on; all of it is told, as
    are holes, gaps, values below absolute zero (holes then) and figures that look like degrees Fahrenheit. Raises
    :class:`InputError` when nothing is left.
    """
    found = _columns(text_of(data, name), mapping, name)
    columns, count, short, first_short = found.columns, found.count, found.short, found.first_short
    told: list[str] = []
    if short:
        told.append(
            f"{short} of {count} lines are too short, the first is line {first_short}; their missing cells are holes."
        )
    line = mapping.header_lines + 1
    if mapping.time_column < 0:
        time = np.arange(count) * mapping.row_interval
    else:
        cells = columns[mapping.time_column]
        if mapping.date_column >= 0:
            cells = [f"{day} {clock}" for day, clock in zip(columns[mapping.date_column], cells, strict=True)]
        if mapping.time_form in _TO_SECONDS:
            time = _figures(cells, mapping.decimal) * _TO_SECONDS[mapping.time_form]
        elif mapping.time_form == "rows":
            time = np.arange(count) * mapping.row_interval
        else:
            time = _moments(cells, mapping.time_form)
    if mapping.time_form == "clock":
        jumps = np.nan_to_num(np.diff(time)) < -43200.0
        if jumps.any():
            time = time + 86400.0 * np.concatenate([[0.0], np.cumsum(jumps)])
            told.append(f"The clock passes midnight {int(jumps.sum())} times; the days are counted on.")
    there = np.isfinite(time) & (np.abs(time) < LONGEST_LOG)
    if not there.any():
        raise InputError(
            f"“{name}”: no time could be read as “{mapping.time_form}”.",
            problems=(
                Problem(
                    f"line {line}", str(columns[max(mapping.time_column, 0)][0])[:40], "another form of time or column"
                ),
            ),
        )
    if not there.all():
        told.append(
            f"{int((~there).sum())} lines have no readable time, the first is line {line + int(np.argmin(there))}; left out."
        )
    keep = np.flatnonzero(there)
    t = time[keep]
    if np.any(np.diff(t) < 0.0):
        told.append(f"{int((np.diff(t) < 0.0).sum())} lines go back in time; all were sorted.")
        order = np.argsort(t, kind="stable")
        keep, t = keep[order], t[order]
    again = np.concatenate([[False], np.diff(t) <= 0.0])
    if again.any():
        told.append(f"{int(again.sum())} lines repeat a moment; the first of each is kept.")
        keep, t = keep[~again], t[~again]
    if t.size > 2:
        step = float(np.median(np.diff(t)))
        gaps = np.diff(t) > max(5.0 * step, step + 30.0)
        if gaps.any():
            told.append(
                f"{int(gaps.sum())} gaps, the longest {float(np.diff(t).max()):.0f} s where rows come every {step:.3g} s."
            )
    values, channels = [], []
    for c in mapping.channels:
        if c.what == "nothing":
            continue
        shown = _figures(columns[c.column], mapping.decimal)[keep]
        scale, offset = _SCALE[c.unit]
        v = shown * scale + offset
        beyond = np.abs(v) > _MOST.get(c.what, MOST_FIGURE)  # infinite ones, too
        if beyond.any():
            told.append(f"“{c.name}” holds {int(beyond.sum())} absurdly large figures; these are holes now.")
            v = np.where(beyond, math.nan, v)
        holes = int((~np.isfinite(v)).sum())
        if holes:
            told.append(f"“{c.name}” has {holes} holes.")
        if c.what == "temperature":
            below = v < 0.0
            if below.any():
                told.append(f"“{c.name}” goes below absolute zero {int(below.sum())} times; these are holes now.")
                v = np.where(below, math.nan, v)
            if c.unit == "°C" and looks_fahrenheit(shown):
                told.append(
                    f"“{c.name}” looks like degrees Fahrenheit: it begins at {np.nanmedian(shown[:20]):.0f}. Is its unit right?"
                )
        if np.isfinite(v).any():
            values.append(v)
            channels.append(c)
        else:
            told.append(f"“{c.name}” holds no figure at all and is left out.")
    if not channels:
        raise InputError(f"“{name}”: no column with figures is taken from it.")
    origin = mapping.start
    if mapping.time_form in ("iso", "day first", "month first", "unix", "clock"):
        origin += float(t[0])
    t = t - origin + mapping.clock_offset
    for array in (t, *values):
        array.setflags(write=False)
    return LogData(np.asarray(t, dtype=np.float64), tuple(channels), tuple(values), tuple(told))


def looks_fahrenheit(shown: Floats) -> bool:
    """Whether figures called °C would make sense in °F only: a start between 55 and 105 that no cold machine has."""
    good = shown[np.isfinite(shown)]
    if good.size < 5:
        return False
    start = float(np.median(good[:3]))
    return 55.0 < start < 105.0 and float(good.max()) > 1.5 * start


def decimated(time: Floats, values: Floats, pixels: int = 1200) -> tuple[Floats, Floats]:
    """Least and largest of every piece in their order, so that a long log is drawn without losing a peak."""
    if time.size <= 2 * pixels:
        return time, values
    size = -(-time.size // pixels)
    pixels = time.size // size  # what is left over is shorter than a piece
    m = size * pixels
    block = values[:m].reshape(pixels, size)
    filled_low, filled_high = np.where(np.isfinite(block), block, np.inf), np.where(np.isfinite(block), block, -np.inf)
    low, high = filled_low.argmin(axis=1), filled_high.argmax(axis=1)
    at = np.sort(np.column_stack([low, high]), axis=1) + (np.arange(pixels) * size)[:, None]
    index = at.ravel()
    if m < time.size:
        tail = values[m:]
        there = np.isfinite(tail)
        if there.any():
            ends = sorted({int(np.where(there, tail, np.inf).argmin()), int(np.where(there, tail, -np.inf).argmax())})
            index = np.concatenate([index, m + np.array(ends)])
    return time[index], values[index]
