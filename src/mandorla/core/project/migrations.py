"""Older project files, brought up to the present schema one version at a time."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Final

from mandorla.core.rig.bed import free_key
from mandorla.core.rig.chamber import SIDES

Step = Callable[[dict[str, Any]], None]


def _rigs(data: dict[str, Any]) -> list[dict[str, Any]]:
    """All rigs of a project that look like rigs; what does not is left to the validation."""
    builds = data.get("builds")
    found = [data.get("rig")] + [b.get("rig") for b in builds if isinstance(b, dict)] if isinstance(builds, list | tuple) else [
        data.get("rig")
    ]  # fmt: skip
    return [rig for rig in found if isinstance(rig, dict)]


def _nearest_wall(panel: dict[str, Any]) -> str:
    """The wall material whose conductivity comes closest to that of a panel of schema 1."""
    k = panel.get("conductivity", 0.19)
    if not isinstance(k, int | float):
        return "acrylic"
    for limit, name in ((0.035, "rigid_foam"), (0.08, "quilt"), (0.16, "plywood"), (0.5, "acrylic"), (10.0, "glass")):
        if k <= limit:
            return name
    return "sheet_steel" if k < 100.0 else "aluminium"


def _six_panels(data: dict[str, Any]) -> None:
    """1 to 2: one kind of panel all around becomes six panels of library layers of the same thickness."""
    for rig in _rigs(data):
        chamber = rig.get("chamber")
        if isinstance(chamber, dict) and "panel" in chamber:
            panel = chamber.pop("panel")
            old = panel if isinstance(panel, dict) else {}
            layer = {"material": _nearest_wall(old), "thickness": old.get("thickness", 0.004)}
            chamber["panels"] = {side: {"layers": [layer], "foil": False} for side in SIDES}


def _measurements(data: dict[str, Any]) -> None:
    """2 to 3: measurements, corrections and provenance are new; what is missing stands for none."""


def _keys(data: dict[str, Any]) -> None:
    """3 to 4: layers, sessions and fitted unknowns have stable keys; the models make those of layers and sessions from names."""
    for rig in _rigs(data):
        bed, fitted = rig.get("bed"), rig.get("fitted")
        layers = bed.get("layers") if isinstance(bed, dict) else None
        names = [v.get("name") for v in layers if isinstance(v, dict)] if isinstance(layers, list) else []
        taken: set[object] = set()
        keys: dict[object, str] = {}
        for name in names:
            keys[name] = free_key(str(name), taken)
            taken.add(keys[name])
        for value in fitted.get("values", ()) if isinstance(fitted, dict) else ():
            if isinstance(value, dict) and "key" not in value:
                value["key"] = _unknown_key(str(value.get("name", "")), keys)


def _unknown_key(name: str, keys: dict[object, str]) -> str:
    """The key of a fitted unknown that an older file knows by its name on screen."""
    for start, kind in (
        ("conductivity of ", "conductivity"),
        ("joint below ", "joint"),
        ("emissivity of ", "emissivity"),
    ):
        if name.startswith(start):
            return f"{kind}:{keys.get(name.removeprefix(start), name.removeprefix(start))}"[:80]
    plain = {
        "sensor, bias and place": "sensor", "heater power": "power", "convection": "convection", "panels": "panels",
        "leakage": "leakage",
    }  # fmt: skip
    return plain.get(name, name)


def _risk(data: dict[str, Any]) -> None:
    """4 to 5: one criterion for every failure, the chance that is accepted, takes the place of a hold margin that is wanted."""
    criteria = data.get("criteria")
    if isinstance(criteria, dict):
        criteria.pop("margin_wanted", None)


def _coatings(data: dict[str, Any]) -> None:
    """5 to 6: glue is a coating on a plate, no surface of its own."""
    scenarios = data.get("scenarios")
    pinned = [s.get("process") for s in scenarios if isinstance(s, dict)] if isinstance(scenarios, list) else []
    for process in (data.get("process"), *pinned):
        if isinstance(process, dict) and process.get("surface") == "glue_layer":
            process["surface"], process["coating"] = "bare_glass", "glue"


def _starts(data: dict[str, Any]) -> None:
    """6 to 7: how a job starts, what blows, side fans and an exhaust that regulates are new; what is missing stands for none."""


_ONCE_ASSUMED = (30.0, 0.0)  # W of motors and electronics, and of the hot end, where nobody stated them
_NOZZLE_OVER_ROOM = 228.0  # K, at which a hot end's stated heat is taken


def _consumers(data: dict[str, Any]) -> None:
    """7 to 8: what motors and electronics give off becomes a consumer at the plug, the hot end's heat its loss by temperature."""
    for rig in _rigs(data):
        chamber = rig.get("chamber")
        if not isinstance(chamber, dict):
            continue
        machine, hot_end = chamber.pop("machine_heat", _ONCE_ASSUMED[0]), chamber.pop("hot_end_heat", _ONCE_ASSUMED[1])
        if not all(isinstance(v, int | float) for v in (machine, hot_end)) or (machine, hot_end) == _ONCE_ASSUMED:
            continue
        on = dict.fromkeys(("idle", "warm_up", "soak", "printing", "cool_down"), 1.0)
        plug: dict[str, Any] = {
            "consumers": [
                {
                    "key": "machine", "name": "Motors and electronics", "power_low": 0.6 * machine, "power": machine,
                    "power_high": 1.4 * machine, "inside": 1.0, "upper": 0.5, **on,
                }
            ]
        }  # fmt: skip
        if hot_end > 0.0:
            loss = hot_end / _NOZZLE_OVER_ROOM
            plug["hot_end"] = {"low": 0.6 * loss, "typical": loss, "high": 1.6 * loss}
        rig["plug"] = plug


STEPS: Final[dict[int, Step]] = {
    1: _six_panels,
    2: _measurements,
    3: _keys,
    4: _risk,
    5: _coatings,
    6: _starts,
    7: _consumers,
}


# what is another one since a schema, for who opens an older project: what was added, and what its figures follow now
SINCE: Final[dict[int, str]] = {
    1: "six panels of layers make the chamber",
    2: "measurements belong to the project",
    3: "layers and sessions have keys, names may change",
    4: "the chance that is accepted takes the place of the margin that was wanted",
    5: "glue is a coating, plates have two sides",
    6: "jobs may start warm, the room and the chamber are marched through the print",
    7: "everything at the plug is counted, with its range",
}


def changed_since(version: int, present: int) -> str:
    """What has changed since a project was written by an older schema, in words; empty for the present one."""
    told = [text for schema, text in SINCE.items() if version <= schema < present]
    if not told:
        return ""
    new = "; ".join(told)
    return f"Written by schema {version}, this is {present}. New since then: {new}. Its figures follow today's models."


def brought_up(data: dict[str, Any], present: int) -> None:
    """Change the data of an older project in place, step by step, until it has the present schema."""
    version = data.get("schema_version")
    while isinstance(version, int) and version in STEPS and version < present:
        STEPS[version](data)
        version += 1
        data["schema_version"] = version
