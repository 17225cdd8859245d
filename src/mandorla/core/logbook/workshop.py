"""The workshop: its book, what its prints have taught, prints begun and ended."""

from __future__ import annotations

import logging
import os
import zipfile
from collections.abc import Sequence
from pathlib import Path
from typing import Final

import numpy as np

from mandorla.core.errors import InputError
from mandorla.core.logbook.latent import Layout, Use
from mandorla.core.logbook.learning import Experience, learn_prints
from mandorla.core.logbook.place import default_path
from mandorla.core.logbook.records import (
    Conclusion,
    Machine,
    Outcome,
    Plate,
    PlateEvent,
    Print,
    Spool,
    Trial,
    checked,
    now_text,
)
from mandorla.core.logbook.store import Logbook

_KEEPS: Final = "learned.npz"
_LOG = logging.getLogger(__name__)


class Workshop:
    """A book with what was learned from it, kept beside it until the book changes."""

    def __init__(self, path: Path | None = None, *, read_only: bool = False) -> None:
        self.book = Logbook(path if path is not None else default_path(), read_only=read_only)
        self._known: tuple[str, Experience] | None = None

    # ---- learning
    def experience(self) -> Experience:
        """What all prints have taught; from memory or the file beside the book where nothing has changed."""
        digest = self.book.digest
        if self._known is not None and self._known[0] == digest:
            return self._known[1]
        book = self.book
        prints, events = book.all(Print), book.all(PlateEvent)
        machines, plates = book.all(Machine), book.all(Plate)
        found = self._kept(digest)
        if found is None:
            found = learn_prints(prints, events, machines, plates)
            self._keep(digest, found)
        self._known = (digest, found)
        return found

    @property
    def _beside(self) -> Path:
        return self.book.path.with_name(f"{self.book.path.stem}-{_KEEPS}")

    def _kept(self, digest: str) -> Experience | None:
        try:
            with np.load(self._beside, allow_pickle=False) as data:
                if str(data["digest"]) != digest:
                    return None
                layout = Layout(*(tuple(str(v) for v in data[k]) for k in ("names", "specimens", "surfaces")))
                prints, started, widen = int(data["counts"][0]), int(data["counts"][1]), float(data["counts"][2])
                used = {(str(p), str(s)): Use(int(a), int(b)) for p, s, a, b in data["used"]}
                return Experience(
                    layout, data["draws"], str(data["method"]), float(data["effective"]), prints, started,
                    {str(k): str(v) for k, v in data["machines"]}, {str(k): str(v) for k, v in data["plates"]}, used,
                    {str(k): int(v) for k, v in data["by"]}, widen,
                )  # fmt: skip
        except (OSError, ValueError, LookupError, TypeError, EOFError, zipfile.BadZipFile):
            return None  # of another version, or damaged: it is learned again

    def _keep(self, digest: str, e: Experience) -> None:
        """Keep what was learned beside the book; where that cannot be done it is learned again the next time."""
        part = self._beside.with_suffix(f".{os.getpid()}.part.npz")

        def pairs(rows: Sequence[tuple[object, ...]], width: int) -> np.ndarray:
            return np.array([[str(v) for v in row] for row in rows], dtype=str).reshape(-1, width)

        try:
            np.savez(
                part, digest=digest, draws=e.draws, method=e.method, effective=e.effective,
                counts=np.array([e.prints, e.started, e.widen]), names=np.array(e.layout.names, dtype=str),
                specimens=np.array(e.layout.specimens, dtype=str), surfaces=np.array(e.layout.surfaces, dtype=str),
                used=pairs([(*k, *v) for k, v in e.used.items()], 4), machines=pairs(list(e.machines.items()), 2),
                plates=pairs(list(e.plates.items()), 2), by=pairs(list(e.counts.items()), 2),
            )  # fmt: skip
            part.replace(self._beside)
        except OSError as error:
            _LOG.warning("what was learned is not kept: %s", error)

    # ---- names
    def machine(self, name: str) -> Machine:
        """The machine of a name; it is entered where it is not known."""
        there = next((m for m in self.book.all(Machine) if m.name == name), None)
        return there if there is not None else self.book.put(Machine(name=name[:80]))

    def plate(self, name: str, front: str, back: str = "") -> Plate:
        """The plate of a name; it is entered where it is not known."""
        there = next((p for p in self.book.all(Plate) if p.name == name), None)
        return there if there is not None else self.book.put(Plate(name=name[:80], front=front, back=back))

    def spool(self, name: str, polymer: str) -> Spool:
        """The spool of a name; it is entered where it is not known."""
        there = next((s for s in self.book.all(Spool) if s.name == name), None)
        return there if there is not None else self.book.put(Spool(name=name[:80], polymer=polymer))

    # ---- prints
    def begin(
        self, entry: Print, data: bytes, *, machine: str, plate: str = "", back: str = "", spool: str = "", prepared: str = "",
        trial: Trial | None = None, arm: str = "", at: str = "",
    ) -> Print:  # fmt: skip
        """Enter a print that begins.

        Parameters
        ----------
        entry
            What was predicted of it (results.log_entry).
        data
            The project's file as it is.
        machine, plate, back, spool
            Names; what is not known yet is entered.
        prepared
            What was done to the plate before: washed, wiped, coated, nothing; empty where nobody knows.
        trial, arm
            The trial that it belongs to, and which arm it is.
        at
            When it began; now where it is not said.

        Raises
        ------
        InputError
            An arm that the trial does not have; a state of the plate that does not exist.
        """
        if trial is not None and trial.arms and arm not in trial.arms:
            raise InputError(f"“{trial.name}” has no arm “{arm}”: {', '.join(trial.arms)}.")
        # plate is matched by name: a print on a surface without a plate of its own is on no specimen
        on = self.plate(plate, entry.surface, back) if plate else None
        values = entry.model_dump() | {
            "key": Print(name="new").key, "at": at or now_text(), "machine": self.machine(machine).key,
            "plate": on.key if on is not None else "", "spool": self.spool(spool, entry.polymer).key if spool else "",
            "prepared": prepared, "trial": trial.key if trial is not None else "", "arm": arm,
            "project": self.book.keep_project(entry.name, data),
        }  # fmt: skip
        return self.book.put(checked(Print, values))

    def end(self, key: str, outcome: Outcome, *, energy: float | None = None) -> Print:
        """Enter how a print ended."""
        there = self.book.get(Print, key)
        changes: dict[str, object] = {"outcome": outcome}
        if energy is not None:
            changes["energy_measured"] = energy
        return self.book.put(checked(Print, there.model_dump() | changes))

    def open_print(self, name: str, machine: str) -> Print | None:
        """The newest print of a project on a machine (names) whose end is not known yet."""
        keys = {m.key for m in self.book.all(Machine) if m.name == machine}
        return next(
            (p for p in reversed(self.book.all(Print)) if p.name == name and p.machine in keys and not p.entered), None
        )

    def attach_run(self, name: str, machine: str, run: dict[str, object]) -> Print | None:
        """Keep what a watched run recorded with the open print of a project; None where there is none."""
        p = self.open_print(name, machine)
        return self.book.put(checked(Print, p.model_dump() | {"run": run})) if p is not None else None

    def numbered(self, number: int) -> Print:
        """The print with a number. Raises :class:`InputError` where there is none."""
        found = next((p for p in self.book.all(Print) if p.number == number), None)
        if found is None:
            raise InputError(f"There is no print number {number}.")
        return found

    # ---- conclusions
    def withdraw(self, c: Conclusion, why: str) -> Conclusion:
        """Withdraw a conclusion; it stays, struck through, with the reason. Raises InputError without one."""
        if not why.strip():
            raise InputError("Say why it is withdrawn.")
        return self.book.put(checked(Conclusion, c.model_dump() | {"withdrawn": now_text(), "why": why.strip()}))


def stale_because(c: Conclusion, prints: Sequence[Print], events: Sequence[PlateEvent], spools: Sequence[Spool]) -> str:
    """Why a conclusion no longer stands as it was: another lot, another rig, a plate that was renewed or damaged since; empty where
    it does."""
    if c.withdrawn:
        return ""
    for kind, value in c.depends.items():
        if kind == "plate":
            since = [
                e for e in events if e.plate == value and e.at > c.at and e.what in ("renewed", "damaged", "scuffed")
            ]
            if since:
                return f"the plate was {since[-1].what} on {since[-1].at[:10]}"
        if kind == "lot":
            newest = max(
                (s for s in spools if s.polymer == c.depends.get("polymer")), key=lambda s: s.opened, default=None
            )
            if newest is not None and newest.lot != value and newest.opened > c.at:
                return f"another lot is used since {newest.opened[:10]}"
        if kind == "rig":
            mine = c.depends.get("machine", "")
            newer = [p for p in prints if p.at > c.at and p.machine == mine and p.setup.get("rig") not in (None, value)]
            if newer:
                return f"the rig was changed before print {newer[0].number}"
    return ""


def taught(wanted: bool, logbook: Path | None = None) -> Experience | None:
    """What a workshop's prints teach: of a stated ``logbook``, else of the workshop's own where there is one. None without prints,
    or where a project does not want them.

    Raises
    ------
    InputError
        A stated book that is not there.
    LogbookError
        One that cannot be read.
    """
    path = logbook if logbook is not None else default_path()
    if not path.exists():
        if logbook is not None:
            raise InputError(f"There is no logbook at “{path}”.")
        return None
    if not wanted:
        return None
    found = Workshop(path).experience()
    return found if found.prints else None
