"""A guess how a log is to be read, from its first lines: separators, time, what each column is."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Sequence
from typing import get_args

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.measure.log_cells import is_number, moment, number, text_of
from mandorla.core.measure.logs import looks_fahrenheit, read_log
from mandorla.core.measure.models import MOST_CHANNELS, MOST_HEADER_LINES, LogChannel, LogMapping, Place

_CELSIUS = 273.15

_DATED = ("iso", "day first", "month first")
_TIME_UNITS = {"ms": "ms", "s": "s", "sec": "s", "min": "min", "h": "h"}
_PLACES = r"room|ambient|outside|frame|gantry|chamber|air|enclosure|sensor|display|reported|bed|surface|plate|middle|corner|edge"
_PLACES += (
    r"|centre|center|probe|spot|tc\d|front|rear|left|right|mitte|target|set ?point|wanted|count|index|battery|humid"
)
_UNIT = r"°\s?[cf]|\b(deg\s?)?[cf]\b|celsius|fahrenheit|kelvin|[\[(_ ][ck][\])]?$"
_MOST = 0.9  # share of a column's cells that must be of a kind: a few may be damaged


def first_lines(data: bytes) -> bytes:
    """What a guess looks at: the first 256 kB."""
    return data[: 256 * 1024]


def propose(data: bytes, name: str) -> LogMapping:
    """A guess how a log is to be read, from its first lines. Raises :class:`InputError` for an empty or unreadable one."""
    text = text_of(first_lines(data), name)
    lines = [line for line in text.splitlines()[:400] if line.strip()]
    if len(lines) < 2:
        raise InputError(f"“{name}” holds fewer than two lines.")
    body = lines[len(lines) // 3 : len(lines) // 3 + 40]
    scores = {d: min(line.count(d) for line in body) for d in ("\t", ";", "|", ",")}
    delimiter = next((d for d in ("\t", ";", "|") if scores[d] > 0), "," if scores[","] > 0 else " ")
    try:
        rows = [list(r) for r in csv.reader(io.StringIO("\n".join(lines)), delimiter=delimiter, skipinitialspace=True)]
    except csv.Error as error:
        raise InputError(
            f"“{name}” cannot be cut into columns: {error}; is there a quotation mark without its mate?"
        ) from error
    sample = rows[len(rows) // 3 : len(rows) // 3 + 40]
    decimal = "," if delimiter != "," and any(re.fullmatch(r"\s*-?\d+,\d+\s*", c) for r in sample for c in r) else "."
    first = next((i for i, r in enumerate(rows) if sum(_is_datum(c, decimal) for c in r) >= max(1, len(r) - 1)), None)
    if first is None:
        raise InputError(f"“{name}”: no line holds figures in the columns that “{delimiter}” separates.")
    if first > MOST_HEADER_LINES:
        raise InputError(
            f"“{name}”: figures begin only in line {first + 1}; {MOST_HEADER_LINES} lines may stand before them."
        )
    head = rows[first - 1] if first > 0 else [f"column {i + 1}" for i in range(len(rows[first]))]
    sample = rows[first : first + 60]
    usual = max({len(r) for r in sample}, key=lambda n: sum(len(r) == n for r in sample))
    sample = [r for r in sample if len(r) == usual]  # cut lines tell nothing of the columns
    date_column, time_column, form = _apart(sample)
    if date_column < 0:
        time_column, form = _time_column(sample, head, decimal)
    channels = [
        _channel(i, head[i] if i < len(head) else f"column {i + 1}", [r[i] for r in sample if i < len(r)], decimal)
        for i in range(max(len(r) for r in sample))
        if i not in (time_column, date_column)
    ]
    if len(channels) > MOST_CHANNELS:
        raise InputError(
            f"“{name}” has {len(channels)} columns beside the time; {MOST_CHANNELS} are the most that are read."
        )
    return LogMapping(
        delimiter=delimiter, decimal=decimal, header_lines=first, time_column=time_column, date_column=date_column,
        time_form=form, channels=tuple(channels),
    )  # fmt: skip


def _is_datum(cell: str, decimal: str) -> bool:
    """Whether a cell is a figure, or the date or the time of day of a row that has both apart."""
    return (
        is_number(cell, decimal) or _is_moment(cell, "clock") or any(_is_moment(f"{cell} 00:00:00", f) for f in _DATED)
    )


def _apart(sample: Sequence[Sequence[str]]) -> tuple[int, int, str]:
    """The columns of a date and of a time of day that stand apart, and how both together are written; -1 where they do not."""
    for clock in range(min(len(r) for r in sample)):
        if sum(_is_moment(r[clock], "clock") for r in sample) < _MOST * len(sample):
            continue
        for day in (clock - 1, clock + 1):
            if not 0 <= day < min(len(r) for r in sample):
                continue
            for form in _DATED:
                if sum(_is_moment(f"{r[day]} {r[clock]}", form) for r in sample) >= _MOST * len(sample):
                    return day, clock, form
    return -1, -1, "rows"


def _is_moment(cell: str, form: str) -> bool:
    try:
        moment(cell, form)
    except ValueError:
        return False
    return True


def _time_column(sample: Sequence[Sequence[str]], head: Sequence[str], decimal: str) -> tuple[int, str]:
    """Which column is the time, and how it is written; -1 and ``rows`` when none is."""
    width = min(len(r) for r in sample)
    for i in range(width):
        for form in ("iso", "day first", "month first", "clock"):
            if sum(_is_moment(r[i], form) for r in sample) >= _MOST * len(sample):
                return i, form
    for i in range(width):
        name = head[i].lower() if i < len(head) else ""
        figures = [r[i] for r in sample if is_number(r[i], decimal)]
        if len(figures) < _MOST * len(sample):
            continue
        values = np.array([number(c, decimal) for c in figures])
        named = any(word in name for word in ("time", "zeit", "elapsed", "second", "minute", "hour", "timestamp"))
        bare = name.strip(" []()")
        named = named or bare in ("t", *_TIME_UNITS)
        if named or (i == 0 and np.all(np.diff(values) > 0.0)):
            if values[0] > 1e9:
                return i, "ms" if values[0] > 1e11 else "unix"
            if bare in _TIME_UNITS:
                return i, _TIME_UNITS[bare]
            unit = re.search(r"[\[(,_ ](ms|s|sec|min|h)\b", name + " ")
            if unit:
                return i, _TIME_UNITS[unit.group(1)]
            return i, "min" if "minute" in name else "h" if "hour" in name else "s"
    return -1, "rows"


def _channel(i: int, head: str, cells: Sequence[str], decimal: str) -> LogChannel:
    """What a column likely is, from its heading."""
    name, low = head.strip() or f"column {i + 1}", head.lower()
    values = [number(c, decimal) for c in cells if is_number(c, decimal)]
    what, unit, place = "temperature", "°C", "surface"
    if not values:
        return LogChannel(column=i, name=name[:80], what="nothing", unit="")
    if "kwh" in low:
        what, unit, place = "energy", "kWh", "power"
    elif re.search(r"\bwh\b|\[wh\]|energy", low):
        what, unit, place = "energy", "Wh", "power"
    elif re.search(r"\bkw\b", low):
        what, unit, place = "power", "kW", "power"
    elif re.search(r"\bw\b|watt|power|\[w\]|_w$", low):
        what, unit, place = "power", "W", "power"
    elif "duty" in low or "%" in low or "pwm" in low:
        what, unit, place = "duty", "%", "power"
    elif "°f" in low or "fahrenheit" in low or re.search(r"[\[(_ ]f[\])]?$", low):
        unit = "°F"
    elif "kelvin" in low or re.search(r"[\[(]k[\])]$", low):
        unit = "K"
    if what == "temperature":
        if re.search(r"room|ambient|outside", low):
            place = "room"
        elif re.search(r"frame|gantry", low):
            place = "frame"
        elif re.search(r"chamber|air|enclosure", low):
            place = "lower air" if "low" in low else "upper air"
        elif re.search(r"sensor|display|reported|bed\b(?!.*surf)", low):
            place = "sensor"
        if re.search(r"target|set ?point|wanted|count|index|battery|humid", low):
            what, unit = "nothing", ""
    return LogChannel(column=i, name=name[:80], what=what, unit=unit, place=place)


def unknown_places(mapping: LogMapping) -> tuple[str, ...]:
    """Names of temperature columns whose heading does not say where they were measured; a single column is the surface."""
    warm = [c for c in mapping.channels if c.what == "temperature"]
    unknown = tuple(c.name for c in warm if c.place == "surface" and not re.search(_PLACES, c.name.lower()))
    return unknown if len(warm) > 1 else ()


def open_questions(mapping: LogMapping, data: bytes, name: str) -> tuple[str, ...]:
    """What a proposal only guesses and a person must say: what unknown headings measured, and in which unit.

    Raises :class:`InputError` when the log cannot be read by the mapping.
    """
    warm = [c for c in mapping.channels if c.what == "temperature"]
    unknown = unknown_places(mapping)
    questions = []
    if unknown:
        questions.append(f"What did {_listed(unknown)} measure? The headings do not say.")
    unsaid = [c for c in warm if c.unit == "°C" and not re.search(_UNIT, c.name.lower())]
    if unsaid:
        log = read_log(data, name, mapping)
        doubtful = [
            c.name
            for c, v in zip(log.channels, log.values, strict=True)
            if c in unsaid and looks_fahrenheit(v - _CELSIUS)
        ]
        if doubtful:
            questions.append(f"Is {_listed(doubtful)} in °F? The heading does not say, and the figures look like it.")
    return tuple(questions)


def with_unit(mapping: LogMapping, unit: str | None, places: Sequence[str] = ()) -> LogMapping:
    """A proposal with what a person says: the unit of temperatures whose heading has none, and ``COLUMN=PLACE`` answers.

    Raises :class:`InputError` for a column or place that does not exist.
    """
    answers = {}
    for text in places:
        column, sign, place = text.partition("=")
        if not sign or column not in {c.name for c in mapping.channels}:
            known = ", ".join(c.name for c in mapping.channels)
            raise InputError(f"“{text}”: write COLUMN=PLACE, COLUMN one of: {known}.")
        if place not in (*get_args(Place), "nothing"):
            raise InputError(f"“{place}” is no place; there are: {', '.join(get_args(Place))}, nothing.")
        answers[column] = place
    symbol = {"degC": "°C", "degF": "°F", "K": "K"}.get(unit or "")
    channels = []
    for c in mapping.channels:
        change: dict[str, object] = {}
        if symbol and c.what == "temperature" and not re.search(_UNIT, c.name.lower()):
            change["unit"] = symbol
        if c.name in answers:
            change |= {"what": "nothing", "unit": ""} if answers[c.name] == "nothing" else {"place": answers[c.name]}
        # a place that was said is no longer a guess: it is named in the channel
        if answers.get(c.name, "nothing") != "nothing":
            change["name"] = f"{c.name} ({answers[c.name]})"[:80]
        channels.append(c.model_copy(update=change))
    return mapping.model_copy(update={"channels": tuple(channels)})


def _listed(names: Sequence[str]) -> str:
    return ", ".join(f"“{n}”" for n in names)
