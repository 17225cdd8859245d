"""Where the workshop's logbook is."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Final

from platformdirs import user_data_path

NAME: Final = "logbook.db"


def default_path() -> Path:
    """Where the workshop's book is: MANDORLA_LOGBOOK, else in MANDORLA_HOME, else in the user's data folder."""
    stated, home = os.environ.get("MANDORLA_LOGBOOK"), os.environ.get("MANDORLA_HOME")
    return Path(stated) if stated else (Path(home) if home else user_data_path("mandorla")) / NAME
