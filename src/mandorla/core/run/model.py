"""The plan of a run as it is kept in the project: when, who is there, what was edited on the sheet."""

from __future__ import annotations

from datetime import datetime
from typing import Final, Literal
from zoneinfo import ZoneInfo

from pydantic import Field, field_validator

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity


class StepEdit(Model):
    """What a person made of a step of the sheet, by its stable ``key``: done, left out, who does it, in other words."""

    key: str = Field(min_length=1, max_length=60)
    done: bool = Field(default=False, title="Done")
    left_out: bool = Field(default=False, title="Left out")
    who: str = Field(default="", max_length=60, title="Who")
    words: str = Field(default="", max_length=600, title="In other words")


class Spool(Model):
    """Filament at hand: a spool's name and what is left on it (kg)."""

    name: str = Field(default="Spool", min_length=1, max_length=60, title="Spool")
    left: float = quantity("mass", 0.0, 20.0, "Left on it", default=0.75)


class AlarmNote(Model):
    """An alarm of a run that is kept: s after it began, key of its likeliest cause with its probability, in words."""

    time: float = quantity("duration", 0.0, 90 * 86400.0, "After the beginning")
    cause: str = Field(min_length=1, max_length=60)
    probability: float = Field(ge=0.0, le=1.0)
    text: str = Field(max_length=600)


class LearnedNote(Model):
    """What a run taught of an unknown by its key: in 90 % ranges from what was assumed, and the share of its range that is left."""

    key: str = Field(min_length=1, max_length=80)
    z: float = Field(ge=-10.0, le=10.0)
    share: float = Field(ge=0.0, le=3.0)


class RunRecord(Model):
    """A run that was watched: when it began and for how long, what it was watched by, its trace among the originals, alarms, and
    how long (s) it took until it was ready (0: it never was), as planned and as it was."""

    key: str = Field(min_length=1, max_length=40)
    began: str = Field(min_length=10, max_length=40)
    lasted: float = quantity("duration", 0.0, 90 * 86400.0, "Lasted")
    source: str = Field(max_length=120)
    file: str = Field(min_length=1, max_length=120)
    ended: str = Field(max_length=60)
    planned_ready: float = quantity("duration", 0.0, 7 * 86400.0, "Ready as planned", default=0.0)
    ready: float = quantity("duration", 0.0, 7 * 86400.0, "Ready", default=0.0)
    alarms: tuple[AlarmNote, ...] = Field(default=(), max_length=200)
    learned: tuple[LearnedNote, ...] = Field(default=(), max_length=60)
    note: str = Field(default="", max_length=600, title="Note")


MOST_RECORDS: Final = 40


class RunPlan(Model):
    """When it is switched on or done (local time, ISO; empty: now), the hours of the day in which somebody is there (s after
    midnight), the spools, edits of the sheet."""

    kind: Literal["start", "finish"] = Field(default="start", title="Planned by")
    at: str = Field(default="", max_length=25, title="Date and time")
    zone: str = Field(default="", max_length=60, title="Time zone")
    there_from: float = quantity("clock", 0.0, 86400.0, "Somebody is there from", default=7 * 3600.0)
    there_to: float = quantity("clock", 0.0, 86400.0, "Somebody is there to", default=22 * 3600.0)
    ramp: float = quantity("drift", 0.0, 2.0 / 60, "Cool-down ramp, 0: off", default=0.0)
    seen_lift: float = quantity("length", 0.0, 0.05, "A corner is up by", default=0.0)
    seen_at: float = quantity("length", 0.0002, 2.0, "At a height of", default=0.02)
    spools: tuple[Spool, ...] = Field(default=(), max_length=24)
    steps: tuple[StepEdit, ...] = Field(default=(), max_length=120)

    @field_validator("at")
    @classmethod
    def _moment(cls, value: str) -> str:
        if value:
            try:
                datetime.fromisoformat(value)
            except ValueError:
                raise ValueError(f"“{value}” is no date and time: write it as 2026-11-28 16:30") from None
        return value

    @field_validator("zone")
    @classmethod
    def _known_zone(cls, value: str) -> str:
        if not value:
            return value  # the computer's
        try:
            ZoneInfo(value)
        except (KeyError, ValueError, OSError):
            raise ValueError(f"there is no time zone “{value}”: write it as Europe/Berlin or UTC") from None
        return value

    def edit(self, key: str) -> StepEdit:
        """What was edited of a step; an empty edit where nothing was."""
        return next((e for e in self.steps if e.key == key), StepEdit(key=key))
