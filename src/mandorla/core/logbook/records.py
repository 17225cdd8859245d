"""What the workshop's logbook holds: one model a kind of record. A record has a key of its own, so that two books can be merged,
and a revision, so that two windows cannot overwrite each other."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from datetime import UTC, datetime, timedelta
from typing import Annotated, Any, ClassVar, Final, Literal, Self, TypeVar

from pydantic import Field, ValidationError, field_validator, model_validator

from mandorla.core.errors import InputError, Problem
from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity

Side = Literal["front", "back"]
_AHEAD: Final = timedelta(hours=26)  # clocks of two rooms may differ by a zone and a day; more is a mistake
MOST_BYTES: Final = 64 * 1024 * 1024


def new_key() -> str:
    """A key that no other record has."""
    return uuid.uuid4().hex[:16]


def now_text() -> str:
    """The moment, as a logbook writes it (UTC)."""
    return datetime.now(UTC).isoformat(timespec="seconds")


def moment_of(text: str) -> datetime:
    """A moment that a logbook holds; a date alone is its midnight, a time without a zone is UTC. Raises ValueError."""
    found = datetime.fromisoformat(text)
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)


def _written(text: str) -> str:
    """A moment that is not in the future."""
    if not text:
        return text
    try:
        found = moment_of(text)
    except ValueError:
        raise ValueError(f"“{text}” is no date: write it as 2026-11-28 or 2026-11-28T16:30") from None
    if found > datetime.now(UTC) + _AHEAD:
        raise ValueError(f"“{text}” is in the future")
    return text


Text = Annotated[str, Field(max_length=4000)]
Key = Annotated[str, Field(max_length=40)]


class Record(Model):
    """What every record has: its key, its revision, and where it stands."""

    table: ClassVar[str] = ""

    key: str = Field(default_factory=new_key, min_length=1, max_length=40)
    revision: int = Field(default=0, ge=0)


class Machine(Record):
    """A machine of the workshop."""

    table: ClassVar[str] = "machines"

    name: str = Field(min_length=1, max_length=80, title="Machine")
    note: Text = ""
    retired: bool = False


class Plate(Record):
    """A plate with its two sides (keys of surfaces; empty: it has no back to print on)."""

    table: ClassVar[str] = "plates"

    name: str = Field(min_length=1, max_length=80, title="Plate")
    front: str = Field(min_length=1, max_length=60)
    back: str = Field(default="", max_length=60)
    bought: str = ""
    note: Text = ""
    retired: bool = False

    _bought = field_validator("bought")(_written)


class PlateEvent(Record):
    """Something that was done to a side or happened to it."""

    table: ClassVar[str] = "plate_events"

    plate: Key
    side: Side = "front"
    at: str = Field(default_factory=now_text)
    what: Literal["washed", "wiped", "scuffed", "marked", "damaged", "renewed"] = "washed"
    note: Text = ""

    _at = field_validator("at")(_written)


class Spool(Record):
    """A spool: its polymer and lot, when it was opened and last dried, what is left (kg)."""

    table: ClassVar[str] = "spools"

    name: str = Field(min_length=1, max_length=80, title="Spool")
    polymer: str = Field(min_length=1, max_length=40)
    lot: str = Field(default="", max_length=60)
    opened: str = ""
    dried: str = ""
    left: float = quantity("mass", 0.0, 50.0, "Left on it", default=0.75)
    note: Text = ""
    retired: bool = False

    _dates = field_validator("opened", "dried")(_written)


class Instrument(Record):
    """An instrument: when it was calibrated, and for how many days that counts."""

    table: ClassVar[str] = "instruments"

    name: str = Field(min_length=1, max_length=80, title="Instrument")
    kind: str = Field(default="", max_length=60)
    calibrated: str = ""
    every_days: int = Field(default=365, ge=1, le=3650)
    note: Text = ""

    _calibrated = field_validator("calibrated")(_written)


class KeptProject(Record):
    """A project as it was; its key is the hash of its bytes, which stand beside it."""

    table: ClassVar[str] = "projects"

    name: str = Field(min_length=1, max_length=80)


class Effect(Model):
    """One thing that was seen on a printed part: a way to fail by its key, between which heights (m) it must have begun (low: last
    seen sound, high: first seen bad), by how much (m), how many corners or copies, where (m from the bed's middle; None: not
    told)."""

    way: str = Field(min_length=1, max_length=60)
    low: float = quantity("length", 0.0, 5.0, "Still sound at", default=0.0)
    high: float | None = quantity("length", 0.0, 5.0, "Seen at", default=None)
    lift: float | None = quantity("length", 0.0, 0.5, "By", default=None)
    count: int = Field(default=1, ge=1, le=10000, title="How many")
    x: float | None = quantity("length", -5.0, 5.0, "Where, across", default=None)
    y: float | None = quantity("length", -5.0, 5.0, "Where, along", default=None)

    @model_validator(mode="after")
    def _in_order(self) -> Self:
        if self.high is not None and self.high < self.low:
            raise ValueError("it was seen below the height at which it was still sound")
        return self


class Outcome(Model):
    """How a print ended: ``held`` or with ``effects``; an ``accident`` of another cause (power, jam, hand) at a height ends what it
    tells of grip there. Counts are of copies; ``signs`` what was seen, for a diagnosis."""

    at: str = Field(default_factory=now_text)
    held: bool = True
    effects: tuple[Effect, ...] = Field(default=(), max_length=40)
    accident: str = Field(default="", max_length=200)
    accident_at: float | None = quantity("length", 0.0, 5.0, "It ended at", default=None)
    good: int = Field(default=1, ge=0, le=10000)
    copies: int = Field(default=1, ge=1, le=10000)
    sellable: bool = True
    finish: str = Field(default="", max_length=200)
    signs: tuple[str, ...] = Field(default=(), max_length=40)
    note: Text = ""

    _at = field_validator("at")(_written)

    @model_validator(mode="after")
    def _fits_together(self) -> Self:
        if self.good > self.copies:
            raise ValueError(f"{self.good} of {self.copies} cannot be good")
        if self.held and self.effects and self.copies == 1:
            raise ValueError("a single part cannot have held and have failed")
        return self

    @property
    def failed(self) -> bool:
        """Whether anything went wrong that is not an accident."""
        return bool(self.effects)


class Predicted(Model):
    """What was predicted of one way to fail: margin (ln ratio or K), what one standard deviation of each unknown does to it,
    chance, height (m) from which it begins; ``heights`` and ``margins`` the least margin up to a height, where the model has it;
    ``limit`` (m) that a lift is judged against."""

    margin: float
    parts: dict[str, float] = Field(default_factory=dict)
    probability: float | None = Field(default=None, ge=0.0, le=1.0)
    begins: float | None = None
    heights: tuple[float, ...] = Field(default=(), max_length=60)
    margins: tuple[float, ...] = Field(default=(), max_length=60)
    limit: float | None = None


class Print(Record):
    """A print: what it was printed with, the project as it was, what was predicted, what came out.

    ``number`` stands on its run sheet. ``predicted`` is what was shown (learned figures and full runs included), ``evidence`` the
    same by the quick model from the library's figures, which is what learning starts from; ``setup`` are all values that a
    comparison looks at, as text by name."""

    table: ClassVar[str] = "prints"

    number: int = Field(default=0, ge=0)
    at: str = Field(default_factory=now_text)
    name: str = Field(min_length=1, max_length=80)
    machine: Key = ""
    plate: Key = ""
    side: Side = "front"
    spool: Key = ""
    trial: Key = ""
    arm: str = Field(default="", max_length=60)
    project: str = Field(default="", max_length=64)
    polymer: str = Field(default="", max_length=40)
    surface: str = Field(default="", max_length=60)
    coating: str = Field(default="", max_length=40)
    prepared: Literal["", "washed", "wiped", "nothing", "coated"] = ""
    setup: dict[str, str] = Field(default_factory=dict)
    predicted: dict[str, Predicted] = Field(default_factory=dict)
    anything: float | None = Field(default=None, ge=0.0, le=1.0)
    evidence: dict[str, Predicted] = Field(default_factory=dict)
    grip_spread: float = Field(default=0.42, ge=0.01, le=3.0)
    run: dict[str, Any] = Field(default_factory=dict)
    plate_at: float | None = quantity("temperature", 200.0, 700.0, "Plate while it was printed", default=None)
    air_at: float | None = quantity("temperature", 200.0, 700.0, "Air while it was printed", default=None)
    height: float = quantity("length", 0.0, 5.0, "Height", default=0.0)
    duration: float = quantity("duration", 0.0, 90 * 86400.0, "Printed for", default=0.0)
    mass: float = quantity("mass", 0.0, 100.0, "Mass", default=0.0)
    energy_predicted: float = quantity("energy", 0.0, 1e10, "Energy, predicted", default=0.0)
    energy_measured: float | None = quantity("energy", 0.0, 1e10, "Energy, measured", default=None)
    price: float = Field(default=0.0, ge=0.0, le=1e6)  # money for a J
    outcome: Outcome | None = None
    note: Text = ""

    _at = field_validator("at")(_written)

    @property
    def entered(self) -> bool:
        """Whether it is known how it ended."""
        return self.outcome is not None


class Trial(Record):
    """A planned trial: A/B in pairs of prints in random order, or a ladder of one setting; what it asks and how it was planned."""

    table: ClassVar[str] = "trials"

    at: str = Field(default_factory=now_text)
    name: str = Field(min_length=1, max_length=80)
    kind: Literal["ab", "ladder"] = "ab"
    question: Text = ""
    arms: tuple[str, ...] = Field(default=(), max_length=8)
    order: tuple[str, ...] = Field(default=(), max_length=400)
    preparation: Text = ""
    setting: str = Field(default="", max_length=60)
    direction: Literal["up", "down"] = "up"
    prior: tuple[float, float, float, float] = (
        0.0,
        0.0,
        0.0,
        0.0,
    )  # middle and its spread (K), width and its spread (ln)
    ends: tuple[float, float] = (0.0, 0.0)  # lowest and highest step (K)
    closed: bool = False

    _at = field_validator("at")(_written)


class Conclusion(Record):
    """What was concluded, from which prints, how strong it is; what it depends on (kind of record -> key), and why it was
    withdrawn."""

    table: ClassVar[str] = "conclusions"

    at: str = Field(default_factory=now_text)
    text: str = Field(min_length=1, max_length=600)
    strength: float | None = Field(default=None, ge=0.0, le=1.0)
    prints: tuple[str, ...] = Field(default=(), max_length=400)
    trial: Key = ""
    depends: dict[str, str] = Field(default_factory=dict)
    withdrawn: str = ""
    why: Text = ""

    _at = field_validator("at", "withdrawn")(_written)


class Note(Record):
    """A note on anything, by the table and key of what it is about (empty: the workshop)."""

    table: ClassVar[str] = "notes"

    at: str = Field(default_factory=now_text)
    about: str = Field(default="", max_length=40)
    of: Key = ""
    text: str = Field(min_length=1, max_length=4000)

    _at = field_validator("at")(_written)


class Picture(Record):
    """A picture of a print; its bytes stand beside it."""

    table: ClassVar[str] = "pictures"

    at: str = Field(default_factory=now_text)
    name: str = Field(min_length=1, max_length=120)
    of: Key = ""

    _at = field_validator("at")(_written)


M = TypeVar("M", bound=Model)


def checked(kind: type[M], values: Mapping[str, Any]) -> M:
    """A record of these values. Raises :class:`InputError` with everything that is wrong, in words."""
    try:
        return kind.model_validate(values)
    except ValidationError as error:
        rows = [(".".join(str(v) for v in e["loc"]), e) for e in error.errors()]
        texts = [str(e["msg"]).removeprefix("Value error, ") for _, e in rows]
        raise InputError(
            f"It cannot be entered: {'; '.join(texts[:3])}.",
            problems=tuple(
                Problem(where or kind.__name__.lower(), str(e.get("input"))[:60], t)
                for (where, e), t in zip(rows, texts, strict=True)
            ),
        ) from None


# in the order in which they may refer to each other
KINDS: Final[tuple[type[Record], ...]] = (
    Machine, Plate, PlateEvent, Spool, Instrument, KeptProject, Trial, Print, Conclusion, Note, Picture,
)  # fmt: skip
BY_TABLE: Final[dict[str, type[Record]]] = {kind.table: kind for kind in KINDS}
