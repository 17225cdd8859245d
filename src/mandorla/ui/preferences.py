"""What the user likes: theme, units, recent files; kept as JSON in the user's configuration folder."""

from __future__ import annotations

import json
import logging
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any, Final

from mandorla.core.errors import InputError
from mandorla.core.folders import config_folder
from mandorla.core.json_text import json_of
from mandorla.core.units import UnitPreferences

MOST_RECENT = 8
_LOG = logging.getLogger(__name__)


@dataclass(slots=True)
class Preferences:
    """Preferences of the window; they never touch stored values."""

    dark: bool = False
    fahrenheit: bool = False
    inches: bool = False
    recent: list[str] = field(default_factory=list)
    folded_console: bool = False
    folded_sides: bool = False
    restore: bool = True
    session: str = ""
    session_stage: str = ""
    scale: float = 1.0
    currency: str = "€"
    risk: float = 0.10
    comma: bool = False

    @property
    def units(self) -> UnitPreferences:
        """The units to read and type in."""
        return UnitPreferences(self.fahrenheit, self.inches, self.comma)

    def remember(self, path: Path) -> None:
        """Put a file at the head of the recent ones."""
        text = str(path.resolve())
        self.recent = [text, *(r for r in self.recent if r != text)][:MOST_RECENT]

    def save(self) -> None:
        """Write the preferences; a folder that cannot be written is reported by the caller's OSError."""
        folder = config_folder()
        folder.mkdir(parents=True, exist_ok=True)
        temporary = folder / f".preferences.{os.getpid()}.part"
        temporary.write_text(json.dumps(asdict(self), indent=1), encoding="utf-8")
        os.replace(temporary, folder / "preferences.json")


def load_preferences() -> Preferences:
    """Read the preferences; fields that are unknown or of the wrong type are left at their defaults."""
    path = config_folder() / "preferences.json"
    try:
        data = json_of(path.read_bytes(), path.name)
    except FileNotFoundError:
        return Preferences()
    except (OSError, InputError) as error:  # no text, no JSON, not readable: the window starts all the same
        _LOG.warning("the preferences in %s cannot be read: %s", path, error)
        return Preferences()
    return Preferences(**_kept(data)) if isinstance(data, dict) else Preferences()


SCALES: Final = (1.0, 1.25, 1.5, 1.75, 2.0)
_FLAGS: Final = ("dark", "fahrenheit", "inches", "folded_console", "folded_sides", "restore", "comma")


def _kept(data: dict[str, Any]) -> dict[str, Any]:
    """What of a file can be used; everything else stays at its default."""
    kept: dict[str, Any] = {k: data[k] for k in _FLAGS if isinstance(data.get(k), bool)}
    recent = data.get("recent")
    if isinstance(recent, list):
        kept["recent"] = [r for r in recent if isinstance(r, str)][:MOST_RECENT]
    kept |= {k: data[k] for k in ("session", "session_stage") if isinstance(data.get(k), str)}
    if data.get("scale") in SCALES:
        kept["scale"] = float(data["scale"])
    currency, risk = data.get("currency"), data.get("risk")
    if isinstance(currency, str) and 1 <= len(currency) <= 6:
        kept["currency"] = currency
    if isinstance(risk, float) and 0.001 <= risk <= 0.5:
        kept["risk"] = risk
    return kept
