"""Reads G-code as what will really be printed: layer times, heights, extruded volume, temperatures and fan as commanded.

Dialects are told apart by their commands alone: absolute or relative moves and extrusion, millimetres or inches, arcs, volumetric
extrusion, retraction by the firmware. What is not understood is counted and told, never guessed.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from typing import Final

import numpy as np

from mandorla.core.compiled import compiled
from mandorla.core.errors import MeshError, Problem
from mandorla.core.part.mesh import Floats, Ints

FILAMENT: Final = 1.75e-3  # m, usual diameter
ACCELERATION: Final = 3.0  # m/s², where the file says nothing
_DEVIATION: Final = 1.3e-5  # m, how far a corner may be cut, which limits the speed through it
_WORD = re.compile(r"([A-Z])\s*([-+]?(?:\d+\.?\d*|\.\d+))")
_COMMENT = re.compile(r"\([^()]*\)")
_LONGEST_NUMBER: Final = 40  # characters
_LARGEST: Final = 10.0  # m of a print, or of a move
_LONGEST: Final = 3.2e7  # s, a year
_HOTTEST: Final = 1500.0  # degrees; nothing that prints is set to more
_MOST_LINES: Final = 8_000_000
_SPIRAL: Final = 2e-5  # m; layers thinner than that are one rising line
_BIN: Final = 2e-4  # m, height that a rising line is cut into
_KNOWN: Final = frozenset(
    f"{letter}{number}"
    for letter, numbers in (
        ("G", (4, 10, 11, 17, 20, 21, 28, 29, 80, 90, 91, 92)),
        ("M", (17, 18, 73, 75, 76, 77, 82, 83, 84, 104, 105, 106, 107, 109, 110, 115, 117, 118, 140, 141, 190, 191, 200, 201, 203,
               204, 205, 220, 221, 400, 500, 501, 900)),
        ("T", range(8)),
    )
    for number in numbers
)  # fmt: skip


_HEATS: Final = frozenset({"M104", "M109", "M140", "M190", "M141", "M191"})


@dataclass(frozen=True, slots=True)
class PrintFile:
    """What a G-code file prints, layer by layer (n,), SI and kelvin; NaN where a temperature was never commanded.

    ``z`` top of the layers, ``height`` their thickness, ``time`` s, ``volume`` m³ extruded, ``fan`` its mean share, ``nozzle``,
    ``bed`` and ``chamber`` K. ``foot`` (k, 2) m points of the first layer's lines about their middle, ``extent`` (3,) m of what is
    printed, ``duration`` s of all of it, ``notes`` what was found and what was not understood.
    """

    z: Floats
    height: Floats
    time: Floats
    volume: Floats
    fan: Floats
    nozzle: Floats
    bed: Floats
    chamber: Floats
    foot: Floats
    extent: Floats
    duration: float
    notes: tuple[str, ...]


@compiled
def segment_times(length: Floats, feed: Floats, direction: Floats, acceleration: Floats) -> Floats:
    """Seconds (n,) of straight moves of ``length`` m at ``feed`` m/s with limited acceleration (m/s²), matched at their corners.

    ``direction`` (n, 3) are unit vectors. A corner is taken at the speed at which an arc that cuts it by a fixed deviation can be
    run; a backward and a forward pass make all speeds reachable, and every move is a trapezoid.
    """
    n = length.size
    entry = np.zeros(n + 1)
    for i in range(1, n):
        cosine = 0.0
        for k in range(3):
            cosine += direction[i - 1, k] * direction[i, k]
        limit = min(feed[i - 1], feed[i])
        if cosine < 0.9999:
            half = math.sqrt(max(0.0, 0.5 * (1.0 + cosine)))  # cosine of half the change of direction
            cut = half / max(1.0 - half, 1e-9) * _DEVIATION * min(acceleration[i - 1], acceleration[i])
            limit = min(limit, math.sqrt(cut))
        entry[i] = limit
    for i in range(n - 1, -1, -1):
        entry[i] = min(entry[i], math.sqrt(entry[i + 1] ** 2 + 2.0 * acceleration[i] * length[i]))
    for i in range(n):
        entry[i + 1] = min(entry[i + 1], math.sqrt(entry[i] ** 2 + 2.0 * acceleration[i] * length[i]))
    found = np.zeros(n)
    for i in range(n):
        a, u, w, v = acceleration[i], entry[i], entry[i + 1], feed[i]
        peak = math.sqrt(max(0.0, a * length[i] + 0.5 * (u * u + w * w)))
        if peak <= v:
            found[i] = (2.0 * peak - u - w) / a
        else:
            ramps = (2.0 * v * v - u * u - w * w) / (2.0 * a)
            found[i] = (2.0 * v - u - w) / a + (length[i] - ramps) / v
    return found


class _Machine:
    """The state that commands change, and the moves that came of them."""

    def __init__(self, filament: float) -> None:
        self.at = [0.0, 0.0, 0.0, 0.0]  # m; the last is m of filament, or m³
        self.feed, self.scale, self.acceleration = 0.025, 1e-3, ACCELERATION
        self.absolute, self.absolute_e, self.e_told = True, True, False
        self.area = math.pi * filament**2 / 4.0
        self.volumetric = False
        self.fan, self.nozzle, self.bed, self.chamber = 0.0, math.nan, math.nan, math.nan
        # dx, dy, dz, length, feed, acceleration, volume, z, x, y, fan, nozzle, bed, chamber
        self.moves: list[tuple[float, ...]] = []
        self.dwell: list[tuple[int, float]] = []
        self.seen: set[str] = set()
        self.unknown: dict[str, int] = {}

    def move(self, words: dict[str, float]) -> None:
        """A straight move; what extrudes is told by E that grows."""
        if "F" in words:
            self.feed = max(words["F"] * self.scale / 60.0, 1e-6)
        target = list(self.at)
        for k, axis in enumerate("XYZ"):
            if axis in words:
                value = words[axis] * self.scale
                target[k] = value if self.absolute else self.at[k] + value
        if "E" in words:
            value = words["E"] * (self.scale**3 if self.volumetric else self.scale)
            target[3] = value if self.absolute_e else self.at[3] + value
        self._line(target)

    def _line(self, target: list[float]) -> None:
        d = [target[k] - self.at[k] for k in range(3)]
        length = math.sqrt(d[0] ** 2 + d[1] ** 2 + d[2] ** 2)
        pushed = target[3] - self.at[3]
        volume = pushed if self.volumetric else pushed * self.area
        if length > 0.0:
            self.moves.append(
                (*d, length, self.feed, self.acceleration, volume if pushed > 0.0 else 0.0, target[2], target[0], target[1],
                 self.fan, self.nozzle, self.bed, self.chamber)
            )  # fmt: skip
        elif pushed != 0.0:
            self.dwell.append((len(self.moves), abs(pushed) / max(self.feed, 1e-6) if not self.volumetric else 0.0))
        self.at = target

    def arc(self, words: dict[str, float], clockwise: bool) -> None:
        """An arc in the plane as chords of at most 5 degrees. Raises ValueError for one without centre or radius."""
        start = list(self.at)
        if "F" in words:
            self.feed = max(words["F"] * self.scale / 60.0, 1e-6)
        end = list(start)
        for k, axis in enumerate("XYZ"):
            if axis in words:
                value = words[axis] * self.scale
                end[k] = value if self.absolute else start[k] + value
        if "E" in words:
            value = words["E"] * (self.scale**3 if self.volumetric else self.scale)
            end[3] = value if self.absolute_e else start[3] + value
        if "I" in words or "J" in words:
            cx, cy = start[0] + words.get("I", 0.0) * self.scale, start[1] + words.get("J", 0.0) * self.scale
        elif "R" in words:
            cx, cy = _centre(start, end, words["R"] * self.scale, clockwise)
        else:
            raise ValueError("an arc needs I and J, or R")
        radius = math.hypot(start[0] - cx, start[1] - cy)
        if radius <= 0.0:
            raise ValueError("an arc of no radius")
        a = math.atan2(start[1] - cy, start[0] - cx)
        b = math.atan2(end[1] - cy, end[0] - cx)
        sweep = (a - b if clockwise else b - a) % (2.0 * math.pi) or 2.0 * math.pi
        pieces = max(1, math.ceil(sweep / math.radians(5.0)))
        for k in range(1, pieces + 1):
            share = k / pieces
            angle = a - share * sweep if clockwise else a + share * sweep
            point = [cx + radius * math.cos(angle), cy + radius * math.sin(angle)]
            rest = [start[j] + share * (end[j] - start[j]) for j in (2, 3)]
            self._line([*(point if k < pieces else end[:2]), *rest])


def _centre(start: list[float], end: list[float], radius: float, clockwise: bool) -> tuple[float, float]:
    """Centre of an arc by its radius; a negative one takes the longer way."""
    dx, dy = end[0] - start[0], end[1] - start[1]
    chord = math.hypot(dx, dy)
    if chord == 0.0 or abs(radius) < 0.5 * chord * (1.0 - 1e-6):
        raise ValueError("an arc whose radius is too short")
    height = math.sqrt(max(0.0, radius**2 - 0.25 * chord**2)) * (1.0 if (radius > 0.0) != clockwise else -1.0)
    return 0.5 * (start[0] + end[0]) - height * dy / chord, 0.5 * (start[1] + end[1]) + height * dx / chord


def _command(machine: _Machine, code: str, words: dict[str, float]) -> None:
    """Carry out everything that is no move."""
    s = words.get("S", words.get("R", math.nan))
    if code in ("G20", "G21"):
        machine.scale = 0.0254 if code == "G20" else 1e-3
    elif code in ("G90", "G91"):
        machine.absolute = code == "G90"
        if not machine.e_told:
            machine.absolute_e = machine.absolute
    elif code in ("M82", "M83"):
        machine.absolute_e, machine.e_told = code == "M82", True
    elif code == "G92":
        for k, axis in enumerate("XYZE"):
            if axis in words:
                machine.at[k] = words[axis] * (
                    machine.scale**3 if axis == "E" and machine.volumetric else machine.scale
                )
    elif code == "G28":
        for k, axis in enumerate("XYZ"):
            if axis in words or not set("XYZ") & set(words):
                machine.at[k] = 0.0
    elif code == "G4":
        pause = words.get("S", 0.0) + words.get("P", 0.0) / 1000.0
        if not 0.0 <= pause <= _LONGEST:
            raise ValueError("a negative pause, or one of years")
        machine.dwell.append((len(machine.moves), pause))
    elif code in _HEATS and math.isfinite(s) and not -273.15 < s <= _HOTTEST:
        raise ValueError(f"a temperature of {s:.3g} degrees")
    elif code in ("M104", "M109") and math.isfinite(s):
        machine.nozzle = s + 273.15
    elif code in ("M140", "M190") and math.isfinite(s):
        machine.bed = s + 273.15 if s > 0.0 else math.nan
    elif code in ("M141", "M191") and math.isfinite(s):
        machine.chamber = s + 273.15 if s > 0.0 else math.nan
    elif code == "M106":
        share = max(0.0, words.get("S", 255.0))
        machine.fan = min(1.0, share if 0.0 < share <= 1.0 else share / 255.0)
    elif code == "M107":
        machine.fan = 0.0
    elif code == "M204":
        found = words.get("P", words.get("S", words.get("T", 0.0)))
        if found > 0.0:
            machine.acceleration = found * machine.scale
    elif code == "M200":
        machine.volumetric = words.get("D", 0.0) > 0.0


def read_gcode(data: bytes, name: str, filament: float = FILAMENT) -> PrintFile:
    """A G-code file's bytes as what it prints; ``filament`` m is the diameter that its lengths of filament have.

    Raises :class:`MeshError` with the line for numbers that cannot be read, arcs without a centre, and files that extrude nothing.
    """
    if b"\x00" in data[:2048]:
        raise MeshError(f"{name}: this is no text.", problems=(Problem(name, "binary data", "G-code as text"),))
    machine = _Machine(filament)
    for number, line in enumerate(data.decode("utf-8", "replace").splitlines(), start=1):
        if number > _MOST_LINES:
            raise MeshError(
                f"{name}: the file is too long.", problems=(Problem(name, f"{number} lines", f"at most {_MOST_LINES}"),)
            )
        text = line.split(";", 1)[0]
        if "(" in text:
            text = _COMMENT.sub("", text)
        text = text.strip().upper()
        if not text:
            continue
        found = _WORD.match(text)
        if found is None or found.group(1) not in "GMTN":
            machine.unknown.setdefault(text.split()[0][:20], number)
            continue
        words = _WORD.findall(text)
        if words[0][0] == "N" and len(words) > 1:
            words = words[1:]
        if max(len(w) for _, w in words) > _LONGEST_NUMBER:
            raise MeshError(
                f"{name}: line {number} cannot be read.",
                problems=(Problem(f"line {number}", line.strip()[:60], "numbers of some digits"),),
            )
        code = f"{words[0][0]}{int(float(words[0][1]))}"
        values = {k: float(v) for k, v in words[1:]}
        leftover = _WORD.sub("", text).replace("*", "").strip()
        if code in ("G0", "G1", "G2", "G3") and re.search(r"[XYZEFIJR]", leftover):
            raise MeshError(
                f"{name}: line {number} cannot be read.",
                problems=(Problem(f"line {number}", line.strip()[:60], "a number after every letter"),),
            )
        try:
            if code in ("G0", "G1"):
                machine.move(values)
            elif code in ("G2", "G3"):
                machine.arc(values, code == "G2")
                machine.seen.add("arcs")
            elif code in _KNOWN:
                machine.seen.add(code)
                _command(machine, code, values)
            else:
                machine.unknown.setdefault(code, number)
        except ValueError as error:
            raise MeshError(
                f"{name}: line {number}: {error}.",
                problems=(Problem(f"line {number}", line.strip()[:60], "a complete move"),),
            ) from None
    return _layers(machine, name)


def _layers(machine: _Machine, name: str) -> PrintFile:
    """The moves gathered by layer."""
    m = np.array(machine.moves, dtype=np.float64).reshape(-1, 14)
    printing = m[:, 6] > 0.0
    # a line that extrudes has a length in the plane; priming in place does not count
    printing &= np.hypot(m[:, 0], m[:, 1]) > 1e-7
    if printing.sum() < 4:
        raise MeshError(
            f"{name}: nothing is extruded.", problems=(Problem(name, f"{int(printing.sum())} lines", "a print"),)
        )
    seconds = segment_times(m[:, 3].copy(), m[:, 4].copy(), np.ascontiguousarray(m[:, :3] / m[:, 3:4]), m[:, 5].copy())
    for place, pause in machine.dwell:
        seconds[min(place, seconds.size - 1)] += pause
    z = np.round(m[:, 7], 7)
    tops = np.unique(z[printing])
    notes = []
    if tops.size > 10 and float(np.median(np.diff(tops))) < _SPIRAL:
        z = np.ceil(z / _BIN - 1e-6) * _BIN
        tops = np.unique(z[printing])
        notes.append("one rising line; cut into layers of 0.2 mm")
    if np.any(np.diff(z[printing]) < -1e-3):
        notes.append("objects one after another: layer times are those of all of them together")
    # moves without extrusion belong to the layer that is printed next
    following = np.where(printing, np.arange(len(m)), len(m))
    following = np.minimum.accumulate(following[::-1])[::-1]
    last = int(np.flatnonzero(printing)[-1])
    owner: Ints = np.searchsorted(tops, z[np.minimum(following, last)])
    n = tops.size
    time = np.asarray(np.bincount(owner, seconds, n), dtype=np.float64)
    volume = np.asarray(np.bincount(owner[printing], m[printing, 6], n), dtype=np.float64)

    def mean(column: int) -> Floats:
        weight = np.where(printing & np.isfinite(m[:, column]), seconds, 0.0)
        total = np.bincount(owner, weight, n)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.asarray(
                np.bincount(owner, weight * np.nan_to_num(m[:, column]), n) / np.where(total > 0.0, total, np.nan)
            )

    points = np.concatenate([m[printing, 8:10], m[printing, 8:10] - m[printing, :2]])
    middle = 0.5 * (points.min(axis=0) + points.max(axis=0))
    first = printing & (owner == 0)
    foot = np.concatenate([m[first, 8:10], m[first, 8:10] - m[first, :2]]) - middle
    notes.append("relative extrusion" if not machine.absolute_e else "absolute extrusion")
    notes += [
        text
        for text, there in (
            ("inches", "G20" in machine.seen),
            ("arcs", "arcs" in machine.seen),
            ("volumetric", machine.volumetric),
        )
        if there
    ]
    if machine.unknown:
        word, line = min(machine.unknown.items(), key=lambda item: item[1])
        notes.append(
            f"{len(machine.unknown)} commands are not known and were passed over, the first is {word} in line {line}"
        )
    extent = np.array([*np.ptp(points, axis=0), tops[-1]])
    total = float(seconds.sum())
    if not (np.isfinite(m[:, :10]).all() and (np.abs(extent) <= _LARGEST).all() and tops[0] >= 0.0):
        given = " × ".join(f"{1e3 * v:.3g}" for v in extent)
        raise MeshError(
            f"{name}: no machine prints this.",
            problems=(Problem(name, f"{given} mm", "metres at most, above the bed"),),
        )
    if not 0.0 <= total <= _LONGEST or not np.isfinite(volume).all() or (volume < 0.0).any():
        raise MeshError(
            f"{name}: no machine prints this.", problems=(Problem(name, f"{total:.3g} s", "a year at most"),)
        )
    found = PrintFile(
        z=tops, height=np.diff(tops, prepend=0.0), time=time, volume=volume, fan=np.nan_to_num(mean(10)), nozzle=mean(11),
        bed=mean(12), chamber=mean(13), foot=foot, extent=extent, duration=total, notes=tuple(notes),
    )  # fmt: skip
    for array in (tops, found.height, time, volume, found.fan, found.nozzle, found.bed, found.chamber, foot, extent):
        array.setflags(write=False)
    return found
