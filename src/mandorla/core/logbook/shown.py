"""Everything of a book that is shown, read in one go."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from mandorla.core.logbook.calibration import ANY, Calibration, calibrate
from mandorla.core.logbook.latent import Use, uses
from mandorla.core.logbook.learning import Experience
from mandorla.core.logbook.records import (
    Conclusion,
    Instrument,
    Machine,
    Note,
    Picture,
    Plate,
    PlateEvent,
    Print,
    Spool,
    Trial,
)
from mandorla.core.logbook.weaker import Weaker, weaker_plates
from mandorla.core.logbook.worked import Due, Month, Worked, due, energy_by_month, what_worked
from mandorla.core.logbook.workshop import Workshop, stale_because


@dataclass(frozen=True, slots=True)
class BookShown:
    """A book as it is: its records, what was learned, what is due, whether its predictions are right. ``used`` is how the side of
    each print had been used before it; ``stale`` why conclusions (by key) no longer stand as they were."""

    path: str = ""
    digest: str = ""
    prints: tuple[Print, ...] = ()
    machines: tuple[Machine, ...] = ()
    plates: tuple[Plate, ...] = ()
    events: tuple[PlateEvent, ...] = ()
    spools: tuple[Spool, ...] = ()
    instruments: tuple[Instrument, ...] = ()
    trials: tuple[Trial, ...] = ()
    conclusions: tuple[Conclusion, ...] = ()
    notes: tuple[Note, ...] = ()
    experience: Experience | None = None
    calibration: Mapping[str, Calibration] = field(default_factory=dict)
    weaker: tuple[Weaker, ...] = ()
    worked: tuple[Worked, ...] = ()
    due: tuple[Due, ...] = ()
    months: tuple[Month, ...] = ()
    used: Mapping[str, Use] = field(default_factory=dict)
    stale: Mapping[str, str] = field(default_factory=dict)
    pictures: tuple[Picture, ...] = ()

    def pictures_of(self, key: str) -> tuple[Picture, ...]:
        """The pictures of a print, without their bytes."""
        return tuple(p for p in self.pictures if p.of == key)

    def name_of(self, key: str) -> str:
        """Name of a machine, plate, spool or trial; empty for one that is not known."""
        named = {m.key: m.name for m in self.machines} | {p.key: p.name for p in self.plates}
        named |= {v.key: v.name for v in self.spools} | {t.key: t.name for t in self.trials}
        return named.get(key, "")


def book_shown(shop: Workshop) -> BookShown:
    """Read a book. Raises :class:`LogbookError`."""
    book, experience = shop.book, shop.experience()
    digest = book.digest
    prints, events, spools = book.all(Print), book.all(PlateEvent), book.all(Spool)
    plates, instruments, conclusions = book.all(Plate), book.all(Instrument), book.all(Conclusion)
    ways = sorted({w for p in prints for w in p.predicted})
    calibration = {ANY: calibrate(prints)} | {w: c for w in ways if (c := calibrate(prints, w)).count}
    return BookShown(
        str(book.path), digest, tuple(prints), tuple(book.all(Machine)), tuple(plates), tuple(events), tuple(spools),
        tuple(instruments), tuple(book.all(Trial)), tuple(conclusions), tuple(book.all(Note)), experience, calibration,
        tuple(weaker_plates(prints)), tuple(what_worked(prints)),
        tuple(due(plates, dict(experience.used), spools, instruments)), tuple(energy_by_month(prints)), uses(prints, events),
        {c.key: why for c in conclusions if (why := stale_because(c, prints, events, spools))},
        tuple(book.all(Picture)),
    )  # fmt: skip
