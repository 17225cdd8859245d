"""What the user likes: theme, units, recent files; kept as JSON in the user's configuration folder."""

from __future__ import annotations

import json
import logging
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path

from platformdirs import user_config_path, user_state_path

from mandorla.core.units import UnitPreferences

MOST_RECENT = 8
_LOG = logging.getLogger(__name__)


def config_folder() -> Path:
    """Folder of the preferences; MANDORLA_HOME replaces the user's one."""
    home = os.environ.get("MANDORLA_HOME")
    return Path(home) if home else user_config_path("mandorla")


def state_folder() -> Path:
    """Folder of the log and of crash files."""
    home = os.environ.get("MANDORLA_HOME")
    return Path(home) if home else user_state_path("mandorla")


def recovery_folder() -> Path:
    """Folder of the recovery copies."""
    return state_folder() / "recovery"


@dataclass(slots=True)
class Preferences:
    """Preferences of the window; they never touch stored values."""

    dark: bool = False
    fahrenheit: bool = False
    inches: bool = False
    recent: list[str] = field(default_factory=list)

    @property
    def units(self) -> UnitPreferences:
        """The units to read and type in."""
        return UnitPreferences(self.fahrenheit, self.inches)

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
        data = json.loads(path.read_text(encoding="utf-8"))
    except FileNotFoundError:
        return Preferences()
    except (OSError, ValueError) as error:  # no text, no JSON, not readable: the window starts all the same
        _LOG.warning("the preferences in %s cannot be read: %s", path, error)
        return Preferences()
    if not isinstance(data, dict):
        return Preferences()
    flags = {k: data[k] for k in ("dark", "fahrenheit", "inches") if isinstance(data.get(k), bool)}
    recent = data.get("recent")
    return Preferences(**flags, recent=[r for r in recent if isinstance(r, str)] if isinstance(recent, list) else [])
