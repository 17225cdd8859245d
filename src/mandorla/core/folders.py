"""Where things are kept: the user's own folders, or all in one that MANDORLA_HOME names."""

from __future__ import annotations

import os
from pathlib import Path

from platformdirs import user_config_path, user_state_path


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
