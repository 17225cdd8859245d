"""Writes the JSON Schemas into docs/: of ``project.json``, and of what every command prints as JSON."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from mandorla.cli import COMMANDS
from mandorla.core.project.store import json_schema

DOCS = Path(__file__).resolve().parents[1] / "docs"


def command_schemas() -> dict[str, Any]:
    """The schema of every command's output, by its name."""
    return {name: c.output.model_json_schema() for name, c in COMMANDS.items() if c.output is not None}


def main() -> int:
    """Write both."""
    for name, schema in (("project", json_schema()), ("command-output", command_schemas())):
        text = json.dumps(schema, indent=1, ensure_ascii=False) + "\n"
        (DOCS / f"{name}.schema.json").write_text(text, encoding="utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
