"""Same figures as before: three demo machines and five demo parts, within a millionth of the table.

Where a change of physics or a mended defect explains a difference, ``python -m tests.golden.cases`` writes the table anew, and the
change log lists it.
"""

from __future__ import annotations

import json
import math
from pathlib import Path

import pytest

from tests.golden.cases import TABLE, commands, run_case

EXPECTED = json.loads(TABLE.read_text(encoding="utf-8"))
CASES = list(commands())
WITHIN = 1e-6


def test_the_table_has_every_case() -> None:
    assert sorted(EXPECTED) == sorted(name for name, *_ in CASES)


@pytest.mark.parametrize(("name", "machine", "part", "arguments"), CASES, ids=[c[0] for c in CASES])
def test_figures_are_those_of_the_table(
    name: str, machine: str, part: str, arguments: list[str], tmp_path: Path
) -> None:
    found = run_case(machine, part, arguments, tmp_path)
    expected = EXPECTED[name]
    missing = sorted(set(expected) - set(found))
    assert missing == []
    off = []
    for place, value in expected.items():
        now = found[place]
        same = (
            math.isclose(now, value, rel_tol=WITHIN, abs_tol=1e-12)
            if isinstance(value, float | int) and isinstance(now, float | int) and not isinstance(value, bool)
            else now == value
        )
        if not same:
            off.append(f"{place}: {now}, not {value}")
    assert off == []
