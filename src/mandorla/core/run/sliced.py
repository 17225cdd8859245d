"""A sliced file against the plan, line by line; a corrected copy; a preamble and an end that no wait can hang in.

Plain commands that most firmwares know: M104/M109 nozzle, M140/M190 bed, M141/M191 chamber (set / set and wait, S in °C), M106/M107
part fan (S of 255), M204 acceleration, G4 a pause, M0 a stop for a person.
"""

from __future__ import annotations

import math
import re
from typing import Final, NamedTuple

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.part.process import Process
from mandorla.core.rig.model import Rig
from mandorla.core.rig.settings import Settings
from mandorla.core.thermal.steady import solve_steady
from mandorla.core.units import METRIC, OFF, UnitPreferences, show

_ZERO: Final = 273.15
_KELVIN: Final = 0.6  # K within which a target is the same
_WORD: Final = re.compile(r"([A-Z])(-?\d*\.?\d+)")
_SETS: Final = {"M104": "nozzle", "M109": "nozzle", "M140": "bed", "M190": "bed", "M141": "chamber", "M191": "chamber"}
_WAITS: Final = ("M109", "M190", "M191")
_NAMES: Final = {"nozzle": "Nozzle", "bed": "Bed", "chamber": "Chamber"}
_FAN: Final = 0.04  # within which a fan is as planned
_PACE: Final = 0.05  # of a speed or an acceleration
_OVER_ROOM: Final = 2.0  # K over the room from which a wait for cooling ends
_STEPS: Final = 6  # of a ramp at the end
_MOST: Final = 4_000_000  # lines


class Deviation(NamedTuple):
    """A line (from 1; 0: the file as a whole) that is not as planned: what, as found and as planned in words, the line that would
    be (empty: nothing can be put in its place), whether the run is blocked until it is settled."""

    line: int
    what: str
    found: str
    planned: str
    instead: str
    blocks: bool


class Wanted(NamedTuple):
    """What a file is held against, SI: targets (K; OFF: off), fan share, first layer's speed and acceleration, whether a chamber is
    heated; the warmest bed and chamber (K) that the heaters reach, and the room."""

    bed_first: float
    bed_rest: float
    chamber: float
    nozzle: tuple[float, float]
    fan: float
    first_speed: float
    first_acceleration: float
    heats_chamber: bool
    bed_reach: float
    chamber_reach: float
    room: float

    def lines(self, prefs: UnitPreferences = METRIC) -> list[tuple[str, str]]:
        """Name and value of everything that is compared."""

        def degrees(kelvin: float) -> str:
            return show(kelvin, "set_point", prefs, digits=0)

        return [
            ("Bed, first layers", degrees(self.bed_first)), ("Bed, rest", degrees(self.bed_rest)),
            ("Chamber", degrees(self.chamber) if self.heats_chamber else "not heated"),
            ("Nozzle, first layer", degrees(self.nozzle[0])), ("Nozzle, rest", degrees(self.nozzle[1])),
            ("Part fan at most", show(self.fan, "fraction", prefs, digits=0)),
            ("Speed, first layer", show(self.first_speed, "speed", prefs, digits=0)),
            ("Acceleration, first layer", show(self.first_acceleration, "acceleration", prefs, digits=0)),
            ("Bed reaches", degrees(self.bed_reach)),
            *([("Chamber reaches", degrees(self.chamber_reach))] if self.heats_chamber else []),
        ]  # fmt: skip


def wanted_of(rig: Rig, settings: Settings, process: Process) -> Wanted:
    """The plan of a project; what the heaters reach is from steady states at full power."""
    hot = process.material().deposition_temperature
    bed = solve_steady(rig, rig.limits.bed_max, settings.chamber)
    reach = rig.limits.bed_max if bed.reachable else bed.surface
    air = rig.room_temperature
    if rig.heats_chamber:
        warm = solve_steady(rig, settings.bed_rest, rig.limits.chamber_max)
        air = rig.limits.chamber_max if warm.air >= rig.limits.chamber_max - 1.0 else warm.air
    first = process.nozzle_first or hot.typical
    return Wanted(
        settings.bed_first, settings.bed_rest, settings.chamber, (first, hot.typical), settings.fan, process.first_speed,
        process.first_acceleration or process.acceleration, rig.heats_chamber, reach, air,
        rig.room_temperature,
    )  # fmt: skip


def compare(data: bytes, w: Wanted, prefs: UnitPreferences = METRIC) -> tuple[Deviation, ...]:
    """Everything in a sliced file that is not as planned, in the order of its lines.

    Raises
    ------
    InputError
        For a file that holds no moves.
    """
    lines = data.decode("utf-8", errors="replace").splitlines()
    if len(lines) > _MOST:
        raise InputError(f"The file has more than {_MOST} lines.")
    codes = [text.partition(";")[0].strip().upper() for text in lines]
    laid = _laid(codes)
    if not laid:
        raise InputError("The file lays nothing: it holds no moves that extrude.")
    begins, rises = laid[0][0], next((n for n, z, _ in laid if z > laid[0][1] + 1e-4), math.inf)
    # a command counts for the layer that is laid next
    before = max((n for n, _, _ in laid if n < rises), default=0)
    seen = {"bed": False, "chamber": False, "nozzle": False, "rest": False}
    found: list[Deviation] = []
    for n, code in enumerate(codes, start=1):
        command = code.split()[0] if code else ""
        words = {k: float(v) for k, v in _WORD.findall(code[len(command) :])}
        first = n <= before
        if command in _SETS:
            found += _target(n, command, words, w, 1 if first else 2, seen, prefs, n > begins)
        elif command in ("M106", "M107") and not first:
            share = 0.0 if command == "M107" else words.get("S", 255.0) / 255.0
            if share - w.fan > _FAN and words.get("P", 0.0) == 0.0:
                planned = show(w.fan, "fraction", prefs, digits=0)
                instead = f"M106 S{255.0 * w.fan:.0f}"
                found.append(
                    Deviation(n, "Part fan", show(share, "fraction", prefs, digits=0), planned, instead, False)
                )
        elif command == "M204" and first:
            a = words.get("P", words.get("S", math.nan)) / 1e3
            if math.isfinite(a) and a > (1.0 + _PACE) * w.first_acceleration:
                planned = show(w.first_acceleration, "acceleration", prefs)
                instead = f"M204 {'P' if 'P' in words else 'S'}{1e3 * w.first_acceleration:.0f}"
                found.append(
                    Deviation(n, "Acceleration, first layer", show(a, "acceleration", prefs), planned, instead, False)
                )
    found += _too_fast(lines, [m for m in laid if m[0] <= before], w, prefs)
    found += _missing(seen, w, prefs)
    return tuple(sorted(found, key=lambda f: f.line or math.inf))


def _laid(codes: list[str]) -> list[tuple[int, float, float]]:
    """Every move that lays something: line, height (mm), and the feed (mm/min) that is stated in it (0: none is)."""
    found, z, extruded, relative = [], 0.0, 0.0, False
    for n, code in enumerate(codes, start=1):
        command = code.split()[0] if code else ""
        if command in ("M82", "M83"):
            relative = command == "M83"
        elif command in ("G0", "G1", "G2", "G3", "G92"):
            words = {k: float(v) for k, v in _WORD.findall(code[len(command) :])}
            if command == "G92":
                extruded = words.get("E", extruded)
                continue
            z = words.get("Z", z)
            more = words.get("E", 0.0) if relative else words.get("E", extruded) - extruded
            extruded = extruded if relative else extruded + more
            if more > 0.0 and ("X" in words or "Y" in words):
                found.append((n, z, words.get("F", 0.0)))
    return found


def _too_fast(
    lines: list[str], first: list[tuple[int, float, float]], w: Wanted, prefs: UnitPreferences
) -> list[Deviation]:
    """Moves of the first layer that state more than its speed."""
    found = []
    for n, _, feed in first:
        if feed / 60e3 > (1.0 + _PACE) * w.first_speed:
            instead = re.sub(r"[Ff][\d.]+", f"F{60e3 * w.first_speed:.0f}", lines[n - 1].partition(";")[0].strip())
            planned = show(w.first_speed, "speed", prefs)
            found.append(Deviation(n, "Speed, first layer", show(feed / 60e3, "speed", prefs), planned, instead, False))
    return found


def _target(
    n: int, command: str, words: dict[str, float], w: Wanted, layer: int, seen: dict[str, bool], prefs: UnitPreferences, moved: bool
) -> list[Deviation]:  # fmt: skip
    """A line that sets a target, and whether a wait in it can end."""
    what, given = _SETS[command], words.get("S", words.get("R", math.nan))
    if not math.isfinite(given):
        return []
    name, target, waits = _NAMES[what], given + _ZERO, command in _WAITS

    def degrees(kelvin: float) -> str:
        return show(kelvin, "set_point", prefs, digits=0)

    if given <= 0.0:  # switched off: at the end of a file it is meant to
        return [Deviation(n, f"{name} waits for 0 °C", "0 °C", "never reached", "", True)] if waits else []
    tool = f" T{words['T']:.0f}" if "T" in words else ""
    first = layer <= 1
    nozzle, bed = w.nozzle[0 if first else 1], w.bed_first if first else w.bed_rest
    planned = {"nozzle": nozzle, "bed": bed, "chamber": w.chamber}[what]
    seen["rest"] |= what == "bed" and not first
    seen[what] = True
    if what == "chamber" and not w.heats_chamber:
        return [
            Deviation(n, name, degrees(target), "this machine has no heater for it", "; chamber is not heated", waits)
        ]
    found = []
    if abs(target - planned) > _KELVIN and not (planned <= OFF and what == "bed" and not moved and given < 1.0):
        where = f", tool {tool.strip(' T')}" if tool else ", first layers" if first and what != "chamber" else ""
        instead = f"{command}{tool} S{planned - _ZERO:.0f}" if planned > OFF else f"M140{tool} S0"
        found.append(Deviation(n, name + where, degrees(target), degrees(planned), instead, True))
    reach = {"bed": w.bed_reach, "chamber": w.chamber_reach, "nozzle": math.inf}[what]
    hangs = f"its heater reaches {degrees(reach)}" if target > reach + _KELVIN else (
        f"the room is at {degrees(w.room)}" if target < w.room + _OVER_ROOM else ""
    )  # fmt: skip
    if waits and hangs:
        plain = {"bed": "M140", "chamber": "M141", "nozzle": "M104"}[what]
        found.append(
            Deviation(n, f"{name}: a wait that never ends", degrees(target), hangs, f"{plain} S{given:.0f}", True)
        )
    return found


def _missing(seen: dict[str, bool], w: Wanted, prefs: UnitPreferences) -> list[Deviation]:
    """What the plan sets and the file never does."""
    found = []
    for what, planned in (
        ("bed", w.bed_first),
        ("nozzle", w.nozzle[0]),
        ("chamber", w.chamber if w.heats_chamber else OFF),
    ):
        if not seen[what] and planned > OFF:
            found.append(Deviation(0, _NAMES[what], "never set", show(planned, "set_point", prefs, digits=0), "", True))
    if not seen["rest"] and abs(w.bed_rest - w.bed_first) > _KELVIN:
        found.append(
            Deviation(0, "Bed, rest", "never lowered", show(w.bed_rest, "set_point", prefs, digits=0), "", True)
        )
    return found


def corrected(data: bytes, findings: tuple[Deviation, ...]) -> bytes:
    """A copy in which only the lines that were named are others; each keeps what it was as a comment."""
    lines = data.decode("utf-8", errors="replace").splitlines()
    for f in findings:
        if f.line and f.instead:
            lines[f.line - 1] = f"{f.instead} ; planned; was: {lines[f.line - 1].partition(';')[0].strip()}"
    return ("\n".join(lines) + "\n").encode()


def preamble(w: Wanted, soak: float) -> str:
    """Commands that bring the machine to the first layer: heat, wait where a wait can end, soak, stop for levelling.

    Raises
    ------
    InputError
        Where a target cannot be reached, so that its wait would never end.
    """
    _reachable(w)
    lines = ["; heat-up as planned"]
    if w.heats_chamber and w.chamber > w.room + _OVER_ROOM:
        lines.append(f"M141 S{w.chamber - _ZERO:.0f}")
    if w.bed_first > OFF:
        lines.append(f"M140 S{w.bed_first - _ZERO:.0f}")
        if w.bed_first > w.room + _OVER_ROOM:
            lines.append(f"M190 S{w.bed_first - _ZERO:.0f}")
    if w.heats_chamber and w.chamber > w.room + _OVER_ROOM:
        lines.append(f"M191 S{w.chamber - _ZERO:.0f}")
    if soak > 0.0:
        lines += ["; soak: longer where the readings are not calm yet", f"G4 S{soak:.0f}"]
    lines += ["M0 ; level and map hot, then go on", f"M109 S{w.nozzle[0] - _ZERO:.0f}"]
    return "\n".join(lines) + "\n"


def ending(w: Wanted, ramp: float) -> str:
    """Commands after the last layer: nozzle and fan off, bed and chamber off, or lowered by a ``ramp`` (K/s) in steps."""
    lines = ["; end as planned", "M104 S0", "M107"]
    if ramp > 0.0 and w.bed_rest > w.room + 10.0:
        low = w.room + 5.0
        for target in np.linspace(w.bed_rest, low, _STEPS + 1)[1:]:
            lines += [f"M140 S{target - _ZERO:.0f}", f"G4 S{(w.bed_rest - low) / _STEPS / ramp:.0f}"]
    lines.append("M140 S0")
    if w.heats_chamber:
        lines.append("M141 S0")
    return "\n".join([*lines, "M84"]) + "\n"


def _reachable(w: Wanted) -> None:
    if w.bed_first > w.bed_reach + _KELVIN:
        raise InputError(
            f"The bed reaches {w.bed_reach - _ZERO:.0f} °C, not {w.bed_first - _ZERO:.0f} °C: its wait would never end."
        )
    if w.heats_chamber and w.chamber > w.chamber_reach + _KELVIN:
        raise InputError(
            f"The chamber reaches {w.chamber_reach - _ZERO:.0f} °C, not {w.chamber - _ZERO:.0f} °C: its wait would never end."
        )


def waits_in(text: str) -> tuple[tuple[str, float], ...]:
    """Every wait of a block, as it is read back: command and target (K)."""
    found = []
    for line in text.splitlines():
        code = line.partition(";")[0].split()
        if code and code[0] in _WAITS:
            words = {k: float(v) for k, v in _WORD.findall(" ".join(code[1:]))}
            found.append((code[0], words["S"] + _ZERO))
    return tuple(found)
