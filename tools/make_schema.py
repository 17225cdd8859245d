"""Writes the JSON Schema of ``project.json`` from the models into docs/project.schema.json."""

from __future__ import annotations

import json
from pathlib import Path

from mandorla.core.project.store import json_schema

TARGET = Path(__file__).resolve().parents[1] / "docs" / "project.schema.json"


def main() -> int:
    """Write it."""
    TARGET.write_text(json.dumps(json_schema(), indent=1, ensure_ascii=False) + "\n", encoding="utf-8")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
