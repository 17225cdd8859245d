"""Writes the made-up workshop's logbook that the demo opens with: some sixty prints with a story.

A sheet that grips less than its class looked like a cold bed; what was concluded from that was withdrawn. A ladder is half done, a
spool has changed, a trial of pairs has decided. Outcomes are drawn from hidden figures by a seed; nothing here was printed.
"""

from __future__ import annotations

import gzip
import math
import sys
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from mandorla.core.logbook.interchange import as_json
from mandorla.core.logbook.latent import MODEL_SHARE, figure_of, latent_of, uses
from mandorla.core.logbook.records import (
    Conclusion,
    Effect,
    Instrument,
    Machine,
    Note,
    Outcome,
    Plate,
    PlateEvent,
    Predicted,
    Print,
    Record,
    Spool,
    Trial,
)
from mandorla.core.logbook.store import Logbook
from mandorla.core.logbook.trials import plan_ladder, plan_pairs
from mandorla.core.project.paths import set_value
from mandorla.core.project.samples import sample, sample_part
from mandorla.core.project.store import Bundle
from mandorla.core.results.keys import LADDER_PRIOR, PRINT_ENTRY
from mandorla.core.results.results import Results
from mandorla.core.units import celsius
from mandorla.core.warp.unknowns import GRIP, MAGNET

TARGET = Path(__file__).resolve().parents[1] / "src" / "mandorla" / "data" / "demo" / "logbook.json.gz"
BOAT, SILL = "machine-boathouse", "machine-windowsill"
SLIPWAY, OLD, FRAME = "plate-slipway", "plate-old", "plate-sill"
# what nobody knows: in the library's standard deviations, and ln for specimens
TRUTH = {"asa|thermal expansion": 0.2, "asa|stiffness": 0.2, f"{BOAT}|{MAGNET}": 0.3, "model|margin": -0.4, GRIP: -0.3}
SPECIMENS = {SLIPWAY: 0.1, OLD: -3.1, FRAME: 0.0}
WEAR = 0.012  # ln a print since the last wash


def project(
    name: str, part: str, *, bed: float, chamber: float, polymer: str, plate: str = "", title: str = ""
) -> Bundle:
    """A project of the workshop."""
    bundle = sample(name)
    source, files = sample_part(part) if part else (bundle.project.part, dict(bundle.originals))
    assert source is not None
    p = bundle.project.model_copy(
        update={"part": source, "runs": (), "records": (), "scenarios": (), "name": title or source.name}
    )
    files = {k: v for k, v in files.items() if k in (source.file, source.gcode)}
    for path, value in (
        ("process.polymer", polymer), ("settings.bed_first", celsius(bed + 5.0)), ("settings.bed_rest", celsius(bed)),
        ("settings.chamber", celsius(chamber)), ("process.plate", plate),
    ):  # fmt: skip
        p = set_value(p, path, value)
    return Bundle(p, files)


PROJECTS = {
    "lamp": ("boathouse", "lamp-box", {"bed": 94.0, "chamber": 50.0, "polymer": "asa", "plate": "slipway"}),
    "cradle": ("boathouse", "", {"bed": 94.0, "chamber": 60.0, "polymer": "asa", "plate": "slipway"}),
    "cradle-hot": ("boathouse", "", {"bed": 104.0, "chamber": 60.0, "polymer": "asa", "plate": "slipway"}),
    "frame": ("boathouse", "hatch-frame", {"bed": 94.0, "chamber": 60.0, "polymer": "asa", "plate": "slipway"}),
    "clips": ("boathouse", "sail-clips", {"bed": 94.0, "chamber": 50.0, "polymer": "asa", "plate": "slipway"}),
    "rack": ("boathouse", "oar-rack", {"bed": 104.0, "chamber": 60.0, "polymer": "asa", "plate": "slipway"}),
    **{f"sill-{t:.1f}": ("windowsill", "sail-clips", {"bed": t, "chamber": 22.0, "polymer": "asa"}) for t in (62.5, 75.0, 82.5)},
}  # fmt: skip


class Story:
    """The book as it grows, with keys that count instead of chance."""

    def __init__(self) -> None:
        self.rng = np.random.default_rng(17)
        self.entries: dict[str, Print] = {}
        self.records: list[Record] = []
        self.prints: list[Print] = []

    def put(self, record: Record) -> None:
        """Add a record."""
        self.records.append(record)

    def entry(self, which: str) -> Print:
        """What is predicted of a project."""
        if which not in self.entries:
            name, part, more = PROJECTS[which]
            self.entries[which] = Results(project(name, part, **more)).get(PRINT_ENTRY)
        return self.entries[which]

    def drawn(self, p: Print, copies: int) -> Outcome:
        """How a print ends, by the hidden figures."""
        use = uses([*self.prints, p], [r for r in self.records if isinstance(r, PlateEvent)])[p.key]
        effects: list[Effect] = []
        for way, said in p.evidence.items():
            margin = said.margin + self._shift(p, said, use.since_wash) + 0.2 * float(self.rng.standard_normal())
            if margin >= 0.0 or way not in ("adhesion", "loose_plate", "flatness", "cracks"):
                continue
            begins = said.begins or 0.4 * p.height
            lift = round(0.0006 * math.exp(min(-margin, 1.8)), 4) if way == "flatness" else None
            high = None if way == "flatness" else round(min(begins * 1.3 + 0.004, p.height), 3)
            effects.append(Effect(way=way, low=0.0 if high is None else round(0.6 * begins, 3), high=high, lift=lift))
        at = f"{p.at[:10]}T20:10:00+00:00"
        if not effects:
            return Outcome(at=at, good=copies, copies=copies)
        bad = 1 if copies == 1 else int(self.rng.integers(1, max(2, copies // 6)))
        return Outcome(
            at=at, held=False, effects=tuple(effects[:2]), good=copies - bad, copies=copies, sellable=copies > 1
        )

    def _shift(self, p: Print, said: Predicted, since_wash: int) -> float:
        found = 0.0
        for unknown, part in said.parts.items():
            name = GRIP if unknown == GRIP else latent_of(unknown, p.polymer, p.machine)
            share = math.sqrt(MODEL_SHARE) if figure_of(unknown) else 1.0
            found += share * part * TRUTH.get(name, 0.0)
            if unknown == GRIP:
                found += part / p.grip_spread * (SPECIMENS.get(p.plate, 0.0) - WEAR * since_wash)
        return found

    def print(
        self, day: str, which: str, plate: str, spool: str, *, prepared: str = "", copies: int = 1,
        ended: Outcome | str | None = "", trial: str = "", arm: str = "", note: str = "", side: str = "front",
    ) -> None:  # fmt: skip
        """Add a print; its end is drawn, unless it is given (None: never entered)."""
        number = len(self.prints) + 1
        machine = SILL if which.startswith("sill") else BOAT
        entry = self.entry(which)
        values = entry.model_dump() | {
            "key": f"print-{number:03d}", "number": number, "at": f"{day}T08:{number % 60:02d}:00+00:00", "machine": machine,
            "plate": plate, "spool": spool, "prepared": prepared, "trial": trial, "arm": arm, "note": note, "side": side,
        }  # fmt: skip
        p = Print.model_validate(values)
        outcome = self.drawn(p, copies) if isinstance(ended, str) else ended
        metered = number % 3 == 0 and outcome is not None
        energy = (
            round(p.energy_predicted * float(np.exp(0.05 + 0.06 * self.rng.standard_normal())), 0) if metered else None
        )
        p = Print.model_validate(p.model_dump() | {"outcome": outcome, "energy_measured": energy})
        self.prints.append(p)

    def keys(self, *numbers: int) -> tuple[str, ...]:
        """Keys of prints by their numbers."""
        return tuple(self.prints[n - 1].key for n in numbers)


def _things(s: Story) -> None:
    surface, smooth = "polyetherimide_textured", "polyetherimide_smooth"
    for record in (
        Machine(key=BOAT, name="Boathouse 340"), Machine(key=SILL, name="Windowsill 180"),
        Plate(key=SLIPWAY, name="Slipway sheet", front=surface, back=smooth, bought="2026-08-02"),
        Plate(key=OLD, name="Old sheet", front=surface, back=smooth, bought="2026-09-28", note="Bought with three others."),
        Plate(key=FRAME, name="Sill sheet", front=surface, bought="2026-07-11"),
        Spool(key="spool-grey-1", name="Grey, first", polymer="asa", lot="A-114", opened="2026-09-18", dried="2026-11-10",
              left=0.02),
        Spool(key="spool-grey-2", name="Grey, new", polymer="asa", lot="B-027", opened="2026-11-12", dried="2026-11-12", left=0.75),
        Spool(key="spool-white", name="White", polymer="asa", lot="W-9", opened="2026-10-20", dried="2026-10-20", left=0.4),
        Instrument(key="inst-probe", name="Contact probe", kind="contact", calibrated="2025-10-30"),
        Instrument(key="inst-plug", name="Plug meter", kind="meter", calibrated="2026-09-01"),
    ):  # fmt: skip
        s.put(record)


def _september(s: Story) -> None:
    first = "spool-grey-1"
    for day, which, more in (
        ("2026-09-21", "lamp", {"prepared": "washed"}), ("2026-09-22", "clips", {"copies": 24}), ("2026-09-23", "lamp", {}),
        ("2026-09-24", "frame", {}), ("2026-09-25", "lamp", {}), ("2026-09-26", "clips", {"copies": 24}),
        ("2026-09-27", "frame", {}),
        ("2026-09-29", "lamp", {}),
    ):  # fmt: skip
        s.print(day, which, SLIPWAY, first, **more)
    s.put(
        Note(
            key="note-1",
            at="2026-09-29T19:00:00+00:00",
            text="Slipway sheet: no washing between prints, it still holds.",
        )
    )
    # the other sheet, and the wrong conclusion
    s.print("2026-10-02", "cradle", OLD, first, prepared="washed", note="First print on the other sheet.")
    s.print("2026-10-03", "cradle", OLD, first)
    s.print("2026-10-04", "cradle-hot", OLD, first, prepared="washed")
    s.print("2026-10-05", "cradle-hot", OLD, first)
    s.put(Conclusion(
        key="conclusion-1", at="2026-10-05T20:30:00+00:00", text="The bed is too cold at 94 °C: cradles need 104 °C",
        strength=0.81, prints=s.keys(9, 10, 11, 12), depends={"machine": BOAT, "plate": OLD, "polymer": "asa"},
        withdrawn="2026-10-21T20:00:00+00:00",
        why="The same cradle holds at 94 °C on the Slipway sheet (trial “Which sheet”): the other sheet grips less.",
    ))  # fmt: skip


def _october(s: Story) -> None:
    first = "spool-grey-1"
    s.put(PlateEvent(key="event-1", plate=SLIPWAY, at="2026-10-06T07:00:00+00:00", what="washed"))
    trial = plan_pairs("Which sheet", ("Slipway sheet", "Old sheet"), 10, "Is it the bed or the sheet?")
    s.put(
        Trial.model_validate(
            trial.model_dump() | {"key": "trial-sheet", "at": "2026-10-07T08:00:00+00:00", "closed": True}
        )
    )
    for n, arm in enumerate(trial.order):
        plate = SLIPWAY if arm == "Slipway sheet" else OLD
        day = f"2026-10-{8 + n // 2 + n // 8:02d}"
        s.print(day, "cradle", plate, first, prepared="washed", trial="trial-sheet", arm=arm)
    s.put(PlateEvent(key="event-2", plate=OLD, at="2026-10-20T09:00:00+00:00", what="marked",
                     note="Smooth patches front left, against the light."))  # fmt: skip
    s.put(Conclusion(
        key="conclusion-2", at="2026-10-21T20:10:00+00:00", text="The Old sheet's front grips less than the Slipway sheet's",
        strength=0.99, trial="trial-sheet", prints=s.keys(*range(13, 33)), depends={"plate": OLD},
    ))  # fmt: skip
    jam = Outcome(at="2026-10-24T03:00:00+00:00", held=True, accident="filament knotted on the spool", accident_at=0.03, good=0,
                  sellable=False)  # fmt: skip
    for day, which, more in (
        ("2026-10-22", "rack", {"prepared": "washed"}), ("2026-10-23", "clips", {"copies": 24}),
        ("2026-10-24", "rack", {"ended": jam}),
        ("2026-10-26", "rack", {}), ("2026-10-27", "frame", {}), ("2026-10-28", "lamp", {}),
        ("2026-10-29", "clips", {"copies": 24}),
    ):  # fmt: skip
        s.print(day, which, SLIPWAY, first, **more)


def _november(s: Story) -> None:
    prior = Results(project("windowsill", "sail-clips", bed=75.0, chamber=22.0, polymer="asa")).get(LADDER_PRIOR)
    ladder = plan_ladder(
        "Clips on the sill", "settings.bed_rest", prior, (celsius(55.0), celsius(95.0)), "How cold may the bed be?"
    )
    s.put(Trial.model_validate(ladder.model_dump() | {"key": "trial-ladder", "at": "2026-11-02T08:00:00+00:00"}))
    sill = {"trial": "trial-ladder", "prepared": "washed", "copies": 12}
    for day, which, more in (
        ("2026-11-03", "sill-75.0", sill), ("2026-11-04", "lamp", {}), ("2026-11-05", "sill-62.5", sill),
        ("2026-11-06", "frame", {}),
        ("2026-11-07", "clips", {"copies": 24}), ("2026-11-08", "sill-82.5", sill), ("2026-11-09", "lamp", {}),
        ("2026-11-11", "rack", {"ended": None}),
    ):  # fmt: skip
        on = (FRAME, "spool-white") if which.startswith("sill") else (SLIPWAY, "spool-grey-1")
        s.print(day, which, *on, **more)
    s.put(PlateEvent(key="event-3", plate=SLIPWAY, at="2026-11-12T07:00:00+00:00", what="washed"))
    s.put(Conclusion(
        key="conclusion-3", at="2026-11-09T19:00:00+00:00", text="Lamp boxes hold at 94 °C on the Slipway sheet", strength=0.97,
        prints=s.keys(1, 3, 5, 8, 38, 41, 46), depends={"machine": BOAT, "plate": SLIPWAY, "lot": "A-114", "polymer": "asa"},
    ))  # fmt: skip
    for n, which in enumerate(
        ("lamp", "clips", "frame", "lamp", "rack", "lamp", "frame", "clips", "lamp", "frame", "lamp")
    ):
        more: dict[str, Any] = {"copies": 24} if which == "clips" else {}
        s.print(f"2026-11-{13 + n:02d}", which, SLIPWAY, "spool-grey-2", note="New lot." if n == 0 else "", **more)
    cut = Outcome(
        at="2026-11-24T23:00:00+00:00", held=True, accident="power cut", accident_at=0.021, good=0, sellable=False
    )
    s.print("2026-11-24", "lamp", SLIPWAY, "spool-grey-2", ended=cut)
    s.print("2026-11-25", "lamp", SLIPWAY, "spool-grey-2", prepared="washed")
    s.print("2026-11-26", "frame", SLIPWAY, "spool-grey-2", ended=None, note="Runs since this morning.")


def story() -> Sequence[Record]:
    """All records of the demo's logbook."""
    s = Story()
    for part in (_things, _september, _october, _november):
        part(s)
    order = [r for r in s.records if not isinstance(r, Conclusion)]
    return [*order, *s.prints, *(r for r in s.records if isinstance(r, Conclusion))]


def main() -> int:
    """Write the demo's logbook."""
    with tempfile.TemporaryDirectory() as folder:
        book = Logbook(Path(folder) / "demo.db")
        book.put_all(story())
        text = as_json(book)
    TARGET.write_bytes(gzip.compress(text.encode(), mtime=0))
    sys.stdout.write(f"{TARGET.name}: {TARGET.stat().st_size} bytes\n")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
