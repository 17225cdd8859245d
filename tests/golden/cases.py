"""The cases of the golden table: every demo machine and demo part through the command line, in process.

``python -m tests.golden.cases`` writes the table anew; only where a change of figures is meant and is in the
change log.
"""

from __future__ import annotations

import contextlib
import io
import json
import math
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from mandorla.core.project.samples import PARTS, SAMPLES, sample, sample_part
from mandorla.core.project.store import Bundle, write_bundle

TABLE = Path(__file__).with_name("figures.json")
OWN_PART = "winch-cradle"  # the part that the first demo machine comes with
FIRST = "boathouse"
# figures that say how long something took, or that only name a build
NOT_FIGURES = ("seconds", "boxes")


def bundle_of(machine: str, part: str) -> Bundle:
    """A demo machine with a demo part on it."""
    base = sample(machine)
    if part == OWN_PART:
        own = sample(FIRST)
        source, files = own.project.part, {}
        if source is not None:
            files = {name: own.originals[name] for name in source.files}
    else:
        source, files = sample_part(part)
    return Bundle(base.project.model_copy(update={"part": source}), {**base.originals, **files})


def commands() -> Iterator[tuple[str, str, str, list[str]]]:
    """(name, machine, part, arguments of the command line after the project)."""
    parts = (OWN_PART, *PARTS)
    for machine in SAMPLES:
        yield f"heatup {machine}", machine, OWN_PART, ["heatup"]
        yield f"check {machine}", machine, OWN_PART, ["check"]
        for fault in ("relay-on", "mat-loose"):
            yield f"fault {fault} {machine}", machine, OWN_PART, ["fault", "--fault", fault]
        for part in parts:
            yield f"warp {part} on {machine}", machine, part, ["warp", "--no-check"]
    for machine in list(SAMPLES)[1:]:
        yield f"tune {OWN_PART} on {machine}", machine, OWN_PART, ["tune", "--no-check"]
    yield f"verify {FIRST}", FIRST, OWN_PART, ["verify"]
    yield f"why {OWN_PART}", FIRST, OWN_PART, ["warp", "--why", "--no-check"]
    for part in parts:
        yield f"tune {part} on {FIRST}", FIRST, part, ["tune", "--no-check"]
        yield f"full {part} on {FIRST}", FIRST, part, ["warp", "--full", "--resolution", "draft", "--chances"]


def figures_of(answer: Any, where: str = "") -> dict[str, float | str | bool | None]:
    """All numbers and states of an answer by their place; sentences and names are left out."""
    found: dict[str, float | str | bool | None] = {}
    if isinstance(answer, dict):
        for key, value in answer.items():
            if key in NOT_FIGURES:
                continue
            if key in ("status", "state", "verdict") and isinstance(value, str):
                found[f"{where}/{key}"] = value
            else:
                found |= figures_of(value, f"{where}/{key}")
    elif isinstance(answer, list):
        for i, value in enumerate(answer):
            found |= figures_of(value, f"{where}/{i}")
    elif isinstance(answer, bool) or answer is None:
        found[where] = answer
    elif isinstance(answer, int | float):
        found[where] = answer if math.isfinite(answer) else str(answer)
    return found


def run_case(machine: str, part: str, arguments: list[str], folder: Path) -> dict[str, float | str | bool | None]:
    """The figures of one case. Raises :class:`AssertionError` when the command refuses it."""
    from mandorla.cli import run  # loads the numerics

    path = folder / f"{machine}-{part}.mandorla"
    if not path.exists():
        write_bundle(path, bundle_of(machine, part))
    out = io.StringIO()
    with contextlib.redirect_stdout(out):
        status = run([arguments[0], str(path), *arguments[1:], "--json"])
    text = out.getvalue()
    answer = json.loads(text)
    assert status != 2 or answer.get("status") == "error", text
    return figures_of(answer)


def main() -> None:
    """Write the table."""
    table = {}
    with tempfile.TemporaryDirectory() as folder:
        for name, machine, part, arguments in commands():
            table[name] = {
                k: float(f"{v:.10g}") if isinstance(v, float) else v
                for k, v in run_case(machine, part, arguments, Path(folder)).items()
            }
    TABLE.write_text(json.dumps(table, indent=0, sort_keys=True), encoding="utf-8")


if __name__ == "__main__":
    main()
