"""What worked: settings of a machine, surface and polymer with how often they came out good; what is due; what it cost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Final

from scipy.stats import beta

from mandorla.core.logbook.latent import Use
from mandorla.core.logbook.records import Instrument, Plate, Print, Spool, moment_of

SETTINGS: Final = (
    "settings.bed_first", "settings.bed_rest", "settings.chamber", "settings.fan", "settings.soak_time", "process.brim",
    "process.layer_height", "process.first_speed", "process.coating",
)  # fmt: skip
WASH_AFTER: Final = 20  # prints on a side
OPEN_FOR: Final = timedelta(days=30)  # of a spool since it was last dried
_SURE: Final = 0.1


@dataclass(frozen=True, slots=True)
class Worked:
    """Settings (path -> text) of a machine (key), surface and polymer: good parts, all parts, prints, the share that is good at
    least (90 %), the newest print's key."""

    machine: str
    surface: str
    polymer: str
    settings: dict[str, str]
    good: int
    parts: int
    prints: int
    at_least: float
    newest: str


def what_worked(prints: Sequence[Print]) -> list[Worked]:
    """Groups of equal settings, best proven first; accidents of another cause do not count."""
    groups: dict[tuple[object, ...], list[Print]] = {}
    for p in prints:
        o = p.outcome
        if o is None or (o.accident and not o.effects):
            continue
        settings = tuple(p.setup.get(path, "") for path in SETTINGS)
        groups.setdefault((p.machine, p.surface, p.polymer, settings), []).append(p)
    found = []
    for (machine, surface, polymer, _), own in groups.items():
        # the print is the unit: a batch counts by its share
        good = sum(p.outcome.good / p.outcome.copies for p in own if p.outcome is not None)
        least = float(beta.ppf(_SURE, 1.0 + good, 1.0 + len(own) - good))
        newest = max(own, key=lambda p: p.at)
        parts = [(p.outcome.good, p.outcome.copies) for p in own if p.outcome is not None]
        found.append(Worked(
            str(machine), str(surface), str(polymer), {k: newest.setup[k] for k in SETTINGS if k in newest.setup},
            sum(g for g, _ in parts), sum(n for _, n in parts), len(own), least, newest.key,
        ))  # fmt: skip
    return sorted(found, key=lambda w: -w.at_least)


@dataclass(frozen=True, slots=True)
class Due:
    """Something that is due: what (key), of which kind of record, in words."""

    key: str
    kind: str
    words: str


def due(
    plates: Sequence[Plate], used: dict[tuple[str, str], Use], spools: Sequence[Spool], instruments: Sequence[Instrument],
    now: datetime | None = None,
) -> list[Due]:  # fmt: skip
    """Washes, drying and calibrations that are due."""
    now = now or datetime.now(UTC)
    found = []
    for p in plates:
        for side in ("front", "back"):
            use = used.get((p.key, side))
            if use is not None and use.since_wash >= WASH_AFTER and not p.retired:
                found.append(
                    Due(p.key, "plates", f"Wash {p.name}, {side}: {use.since_wash} prints since the last time")
                )
    for s in spools:
        since = s.dried or s.opened
        if since and not s.retired and now - moment_of(since) > OPEN_FOR:
            found.append(Due(s.key, "spools", f"Dry {s.name}: open since {since[:10]}"))
    for i in instruments:
        if not i.calibrated:
            found.append(Due(i.key, "instruments", f"Calibrate {i.name}: never was"))
        elif now - moment_of(i.calibrated) > timedelta(days=i.every_days):
            found.append(Due(i.key, "instruments", f"Calibrate {i.name}: last on {i.calibrated[:10]}"))
    return found


@dataclass(frozen=True, slots=True)
class Month:
    """Energy of a month's prints on a machine (key): how many, J predicted and measured (of those that were metered, and what was
    predicted of these), money with its ``share`` of the month's, parts that were good."""

    month: str
    machine: str
    prints: int
    predicted: float
    metered: float
    predicted_of_metered: float
    cost: float
    share: float
    good: int


def _cost(prints: Sequence[Print]) -> float:
    """What prints cost; a measured figure goes before a predicted one."""
    return sum((p.energy_measured if p.energy_measured is not None else p.energy_predicted) * p.price for p in prints)


def energy_by_month(prints: Sequence[Print]) -> list[Month]:
    """Energy month by month and machine by machine."""
    months: dict[str, list[Print]] = {}
    for p in prints:
        months.setdefault(p.at[:7], []).append(p)
    found = []
    for month, everything in sorted(months.items()):
        whole = _cost(everything)
        for machine in dict.fromkeys(p.machine for p in everything):
            own = [p for p in everything if p.machine == machine]
            metered, cost = [p for p in own if p.energy_measured is not None], _cost(own)
            found.append(Month(
                month, machine, len(own), sum(p.energy_predicted for p in own), sum(p.energy_measured or 0.0 for p in metered),
                sum(p.energy_predicted for p in metered), cost, cost / whole if whole > 0.0 else 0.0,
                sum(p.outcome.good for p in own if p.outcome is not None),
            ))  # fmt: skip
    return found
