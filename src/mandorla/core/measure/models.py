"""What was measured, with what, and how it was judged, as data. SI and kelvin; raw values are never changed."""

from __future__ import annotations

import math
from typing import Final, Literal, Self

from pydantic import Field, field_validator, model_validator

from mandorla.core.materials.library_data import seen_surfaces
from mandorla.core.measure.trials import Trial, iso_day
from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity

InstrumentKind = Literal[
    "thermocouple", "resistance probe", "infrared spot", "imager", "printer sensor", "logger", "plug meter", "straightedge",
    "feeler", "height probe",
]  # fmt: skip
CONTACT: Final = ("thermocouple", "resistance probe", "logger")
INFRARED: Final = ("infrared spot", "imager")
Place = Literal["surface", "sensor", "upper air", "lower air", "frame", "room", "power"]


class Calibration(Model):
    """One comparison: what the instrument showed (K), what was true (K) and how well that was known (K, standard)."""

    date: str = Field(min_length=10, max_length=10, title="Done on")
    kind: Literal["ice point", "boiling point", "other instrument", "soaked surface"] = Field(title="Against")
    shown: float = quantity("temperature", 200.0, 800.0, "Shown")
    reference: float = quantity("temperature", 200.0, 800.0, "True")
    uncertainty: float = quantity("temperature_difference", 0.001, 20.0, "Known to (standard)", default=0.1)
    note: str = Field(default="", max_length=200, title="Note")

    _day = field_validator("date")(iso_day)


class Instrument(Model):
    """An instrument with its maker's limits (of reading in °C and of range, K), resolution, settings and calibrations.

    ``emissivity``, ``band_low``, ``band_high``: of an infrared one as it is set; ``stem_conductance`` W/K and ``tip_radius`` m of a
    contact probe. A plug meter's limits are shares of its reading.
    """

    name: str = Field(min_length=1, max_length=60, title="Name")
    kind: InstrumentKind = Field(default="thermocouple", title="Kind")
    accuracy_of_reading: float = quantity("fraction", 0.0, 0.5, "Accuracy, of reading ±", default=0.005)
    accuracy: float = quantity("temperature_difference", 0.0, 50.0, "Accuracy, of range ±", default=1.0)
    resolution: float = quantity("temperature_difference", 0.0, 10.0, "Resolution", default=0.1)
    emissivity: float = quantity("ratio", 0.05, 1.0, "Emissivity is set to", default=0.95)
    band_low: float = quantity("wavelength", 1e-6, 2.5e-5, "Band from", default=8e-6)
    band_high: float = quantity("wavelength", 1.5e-6, 3e-5, "Band to", default=1.4e-5)
    stem_conductance: float = quantity("conductance", 0.0, 0.1, "Stem carries away", default=0.001)
    tip_radius: float = quantity("length", 0.0002, 0.02, "Radius of the tip", default=0.003)
    calibrations: tuple[Calibration, ...] = Field(default=(), max_length=60)
    interval: float = quantity("days", 86400.0, 3650 * 86400.0, "Calibrate every", default=365 * 86400.0)

    @model_validator(mode="after")
    def _band(self) -> Self:
        if self.band_high <= self.band_low:
            raise ValueError("the infrared band must end above its beginning")
        return self

    def as_set(self, setting: float) -> Instrument:
        """The same instrument with its emissivity at a ``setting`` of the moment (0: as it usually is)."""
        return self if setting <= 0.0 or setting == self.emissivity else self.model_copy(update={"emissivity": setting})


class Reading(Model):
    """One place read once or several times (``raw``, K or W as shown), with what a correction needs to know."""

    instrument: str = Field(min_length=1, max_length=60, title="Instrument")
    place: Place = Field(default="surface", title="Of")
    raw: tuple[float, ...] = Field(min_length=1, max_length=200, title="Shown")
    x: float = quantity("position", -1.5, 1.5, "From the middle, to the right", default=0.0)
    y: float = quantity("position", -1.5, 1.5, "From the middle, to the back", default=0.0)
    time: float = quantity("duration", 0.0, 30 * 86400.0, "After switching on", default=3600.0)
    surface: str = Field(default="", title="Surface seen")
    emissivity: float = quantity("ratio", 0.0, 1.0, "Measured emissivity, 0: the library's", default=0.0)
    reflected: float = quantity("temperature", 100.0, 800.0, "Reflected temperature", default=295.15)
    angle: float = quantity("angle", 0.0, math.pi / 2, "Angle from upright", default=0.0)
    setting: float = quantity("ratio", 0.0, 1.0, "Instrument was set to, 0: as usual", default=0.0)
    lid_open: float = quantity("duration", 0.0, 3600.0, "Lid or door open before it for", default=0.0)
    plate: str = Field(default="", max_length=40, title="Plate")
    side: Literal["", "front", "back"] = Field(default="", title="Side")
    coating: str = Field(default="", max_length=40, title="Coating")
    survey: str = Field(default="", max_length=40, title="Survey")
    note: str = Field(default="", max_length=200, title="Note")

    @model_validator(mode="after")
    def _plausible(self) -> Self:
        if self.surface and self.surface not in seen_surfaces():
            raise ValueError(f"there is no surface “{self.surface}” in the library of emissivities")
        if self.place != "power" and min(self.raw) < 0.0:
            raise ValueError("a temperature below absolute zero was read")
        return self


class LogChannel(Model):
    """One column of a log: what it measures, in which unit, with which instrument, where (m from the bed's middle)."""

    column: int = Field(ge=0, le=400)
    name: str = Field(max_length=80)
    what: Literal["temperature", "power", "energy", "duty", "nothing"] = "temperature"
    unit: Literal["°C", "°F", "K", "W", "kW", "Wh", "kWh", "J", "%", "1", ""] = "°C"
    place: Place = "surface"
    instrument: str = Field(default="", max_length=60)
    x: float = quantity("position", -1.5, 1.5, "From the middle, to the right", default=0.0)
    y: float = quantity("position", -1.5, 1.5, "From the middle, to the back", default=0.0)


MOST_HEADER_LINES: Final = 200
MOST_CHANNELS: Final = 40


class LogMapping(Model):
    """How a log's text becomes numbers; ``clock_offset`` (s) is added to its times, ``start`` (s) is when heating began.

    ``date_column`` is that of the date where it stands apart from the time (-1: it does not).
    """

    delimiter: Literal[",", ";", "\t", "|", " "] = ","
    decimal: Literal[".", ","] = "."
    header_lines: int = Field(default=1, ge=0, le=MOST_HEADER_LINES)
    time_column: int = Field(default=0, ge=-1, le=400)
    date_column: int = Field(default=-1, ge=-1, le=400)
    time_form: Literal["s", "min", "h", "ms", "unix", "iso", "day first", "month first", "clock", "rows"] = "s"
    row_interval: float = quantity("duration", 0.001, 86400.0, "Seconds a row", default=1.0)
    clock_offset: float = Field(default=0.0, ge=-1e6, le=1e6)
    start: float = Field(default=0.0, ge=-1e8, le=1e8)
    channels: tuple[LogChannel, ...] = Field(default=(), max_length=MOST_CHANNELS)


class StoredLog(Model):
    """An imported log: its original's name and how it is read."""

    name: str = Field(min_length=1, max_length=80, title="Name")
    file: str = Field(min_length=1, max_length=120)
    mapping: LogMapping
    note: str = Field(default="", max_length=400, title="Note")


class Patch(Model):
    """A patch on an image with a surface of its own, or a measured emissivity (0: the library's); place, size in m on the bed."""

    name: str = Field(min_length=1, max_length=40, title="Patch")
    surface: str = Field(default="matt_black_tape", title="Surface")
    emissivity: float = quantity("ratio", 0.0, 1.0, "Measured emissivity, 0: the library's", default=0.0)
    x: float = quantity("position", -1.5, 1.5, "Middle, to the right", default=0.0)
    y: float = quantity("position", -1.5, 1.5, "Middle, to the back", default=0.0)
    width: float = quantity("large_length", 0.002, 1.0, "Width", default=0.03)
    depth: float = quantity("large_length", 0.002, 1.0, "Depth", default=0.03)


class StoredImage(Model):
    """An imported radiometric matrix, and where the bed's corners lie in it.

    Corners are (column, row) of front left, front right, rear right, rear left.
    """

    name: str = Field(min_length=1, max_length=80, title="Name")
    file: str = Field(min_length=1, max_length=120)
    unit: Literal["°C", "°F", "K"] = "°C"
    instrument: str = Field(default="", max_length=60, title="Instrument")
    corners: tuple[tuple[float, float], ...] = Field(default=(), max_length=4)
    surface: str = Field(default="polyetherimide_sheet", title="Surface of the bed")
    emissivity: float = quantity("ratio", 0.0, 1.0, "Measured emissivity, 0: the library's", default=0.0)
    reflected: float = quantity("temperature", 100.0, 800.0, "Reflected temperature", default=295.15)
    angle: float = quantity("angle", 0.0, math.pi / 2, "Angle from upright", default=0.0)
    time: float = quantity("duration", 0.0, 30 * 86400.0, "After switching on", default=3600.0)
    setting: float = quantity("ratio", 0.0, 1.0, "Imager was set to, 0: as usual", default=0.0)
    lid_open: float = quantity("duration", 0.0, 3600.0, "Lid or door open before it for", default=0.0)
    patches: tuple[Patch, ...] = Field(default=(), max_length=12)


class StoredHeights(Model):
    """An imported height map (rows from the rear): the state of the bed and the size (m) that it spans about the bed's middle."""

    name: str = Field(min_length=1, max_length=80, title="Name")
    file: str = Field(min_length=1, max_length=120)
    state: Literal["cold", "warm", "soaked", "levelled"] = Field(default="cold", title="Taken")
    unit: Literal["mm", "µm", "in"] = "mm"
    width: float = quantity("large_length", 0.01, 3.0, "Spans, across", default=0.2)
    depth: float = quantity("large_length", 0.01, 3.0, "Spans, deep", default=0.2)
    rear_first: bool = Field(default=True, title="First row is the rear")


class Gap(Model):
    """A feeler under the nozzle or a straightedge: the gap (m) at a place (m)."""

    x: float = quantity("position", -1.5, 1.5, "From the middle, to the right")
    y: float = quantity("position", -1.5, 1.5, "From the middle, to the back")
    gap: float = quantity("length", 0.0, 0.01, "Gap", default=0.0001)


class Session(Model):
    """One measuring session on a rig in one state: its set points and room (K), and everything that was measured."""

    key: str = Field(default="", max_length=40)
    name: str = Field(min_length=1, max_length=60, title="Name")
    date: str = Field(min_length=10, max_length=10, title="Date")
    note: str = Field(default="", max_length=2000, title="Note")
    bed: float = quantity("temperature", 250.0, 650.0, "Bed was set to")
    chamber: float = quantity("temperature", 250.0, 550.0, "Chamber was set to", default=295.15)
    room: float = quantity("temperature", 223.15, 333.15, "Room", default=295.15)
    rig_mark: str = Field(default="", max_length=12)
    readings: tuple[Reading, ...] = Field(default=(), max_length=400)
    logs: tuple[StoredLog, ...] = Field(default=(), max_length=12)
    images: tuple[StoredImage, ...] = Field(default=(), max_length=6)
    heights: tuple[StoredHeights, ...] = Field(default=(), max_length=6)
    gaps: tuple[Gap, ...] = Field(default=(), max_length=24)

    _day = field_validator("date")(iso_day)


class Acceptance(Model):
    """How far measurement and prediction may lie apart: offset and spread (K), drift (K/s), ready time (share)."""

    offset: float = quantity("temperature_difference", 0.1, 30.0, "Surface within", default=2.0)
    spread: float = quantity("temperature_difference", 0.1, 30.0, "Spread within", default=2.0)
    drift: float = quantity("drift", 0.01 / 60, 5.0 / 60, "Soaked below drift", default=0.2 / 60)
    ready: float = quantity("fraction", 0.02, 1.0, "Ready time within", default=0.15)


class RecordRow(Model):
    """One line of a verification record, as it was shown."""

    what: str = Field(max_length=60)
    measured: str = Field(max_length=60)
    predicted: str = Field(max_length=60)
    verdict: str = Field(max_length=20)


class VerificationRecord(Model):
    """The verdict of a day on a rig; it is stale when the rig's mark has changed since."""

    date: str = Field(min_length=10, max_length=10)
    session: str = Field(max_length=60)
    rig_name: str = Field(max_length=80)
    rig_mark: str = Field(max_length=12)
    state: str = Field(max_length=20)
    sentence: str = Field(max_length=1000)
    rows: tuple[RecordRow, ...] = Field(default=(), max_length=20)

    _day = field_validator("date")(iso_day)


class MeterReading(Model):
    """A plug meter as it was read: watts in a ``state`` of the machine, or a total (J) over a ``span`` (s) with so many prints in
    it; by eye it is a range."""

    kind: Literal["power", "total"] = Field(default="power", title="Read was")
    state: Literal["idle", "warm-up", "soak", "print", "cool-down"] = Field(default="print", title="While")
    power_low: float = quantity("power", 0.0, 1e5, "From", default=150.0)
    power_high: float = quantity("power", 0.0, 1e5, "To", default=200.0)
    energy_low: float = quantity("energy", 0.0, 1e11, "From", default=2.0 * 3.6e6)
    energy_high: float = quantity("energy", 0.0, 1e11, "To", default=2.0 * 3.6e6)
    prints: int = Field(default=1, ge=0, le=1000, title="Prints in it", json_schema_extra={"kind": "count"})
    span: float = quantity("duration", 60.0, 90 * 86400.0, "Over", default=86400.0)
    interrupted: bool = Field(default=False, title="A print was stopped or begun again")
    note: str = Field(default="", max_length=200, title="Note")


class Measurements(Model):
    """All of a project's instruments, sessions, trials of film and magnet, and records, and how they are judged."""

    instruments: tuple[Instrument, ...] = Field(default=(), max_length=24)
    sessions: tuple[Session, ...] = Field(default=(), max_length=24)
    trials: tuple[Trial, ...] = Field(default=(), max_length=24)
    records: tuple[VerificationRecord, ...] = Field(default=(), max_length=60)
    meter: tuple[MeterReading, ...] = Field(default=(), max_length=60)
    acceptance: Acceptance = Acceptance()

    @model_validator(mode="before")
    @classmethod
    def _session_keys(cls, data: object) -> object:
        """Sessions that have no key of their own get the next free one; a key stays when a session is renamed."""
        sessions = data.get("sessions") if isinstance(data, dict) else None
        if not isinstance(sessions, list | tuple) or not all(isinstance(s, dict | Session) for s in sessions):
            return data
        plain = [s.model_dump() if isinstance(s, Session) else dict(s) for s in sessions]
        taken, made = {s.get("key") for s in plain}, []
        for s in plain:
            if not s.get("key"):
                number = 1
                while f"session-{number}" in taken:
                    number += 1
                s["key"] = f"session-{number}"
                taken.add(s["key"])
            made.append(s)
        return {**data, "sessions": made}  # type: ignore[dict-item]

    @model_validator(mode="after")
    def _names(self) -> Self:
        for what, names in (
            ("instruments", [i.name for i in self.instruments]),
            ("sessions", [s.name for s in self.sessions]),
            ("keys of sessions", [s.key for s in self.sessions]),
            ("trials", [t.name for t in self.trials]),
            ("keys of trials", [t.key for t in self.trials]),
        ):
            if len(set(names)) != len(names):
                raise ValueError(f"two {what} have the same name")
        return self

    def instrument(self, name: str) -> Instrument | None:
        """An instrument by name."""
        return next((i for i in self.instruments if i.name == name), None)

    def originals(self) -> set[str]:
        """Names of the imported files that sessions refer to."""
        return {
            file
            for s in self.sessions
            for file in (*(x.file for x in s.logs), *(x.file for x in s.images), *(x.file for x in s.heights))
        }
