"""Choose the tests that `make test` leaves to `make test-all`, so that it ends within its ten minutes.

Usage: longer_tests.py REPORT.xml [--budget S] ; the report is pytest's own (--junitxml) of a run on an idle machine. Of every file
the cheapest tests stay, up to a budget of seconds, with all that take less than a second; the rest is listed in tests/longer.txt.
Tests that are listed already and are not in the report stay listed.
"""

from __future__ import annotations

import argparse
import xml.etree.ElementTree as ET
from collections import defaultdict
from pathlib import Path

LIST = Path(__file__).parent.parent / "tests" / "longer.txt"
CHEAP = 1.0  # s of a test that is never left out
# ways that nothing shorter goes, and where something is lost if they break, and tests whose time is that of a fixture that the
# next test of their file would have to make: never left out
ALWAYS = (
    "tests/core/test_demo_files.py::",
    "tests/core/test_levers.py::test_levers_are_ranked_and_go_the_known_way",
    "tests/core/test_evaluate_and_window.py::test_almond_is_the_overlap_of_needs_and_stands",
    "tests/core/test_report_page.py::test_commas_stand_in_page_print_and_tables",
    "tests/core/test_project_file.py::test_a_kill_while_saving_leaves_the_old_or_the_new_file",
    "tests/core/test_project_file.py::test_work_of_a_dead_process_is_found_recovered_and_forgotten",
    "tests/core/test_cli_and_report.py::test_commands_need_no_display_and_no_interface_library",
    "tests/core/test_suggestions.py::test_what_is_offered_does_not_hang_on_how_fast_the_machine_is",
    "tests/core/test_second_core.py::test_a_map_of_two_cores_is_the_map_of_one_to_the_last_digit",
    "tests/ui/test_stages.py::test_using_the_gentlest_change_makes_the_demo_hold",
    "tests/ui/test_workshop_parts.py::test_a_part_goes_from_its_file_through_the_full_simulation[housing]",
)
HEAD = """# What `make test` leaves to `make test-all`: tests that take long. Of every file the cheaper ones stay, up to a budget.
# Written by tools/longer_tests.py from a run's times; pytest refuses names that it does not find.
"""


def listed() -> set[str]:
    """Tests that are listed now."""
    lines = LIST.read_text().splitlines() if LIST.exists() else []
    return {line.strip() for line in lines if line.strip() and not line.startswith("#")}


def main() -> int:
    """Write the list."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("report", type=Path)
    parser.add_argument("--budget", type=float, default=9.0, help="seconds of a file that stay")
    options = parser.parse_args()
    files: dict[str, list[tuple[float, str]]] = defaultdict(list)
    for case in ET.parse(options.report).getroot().iter("testcase"):
        file = f"{case.get('classname', '').replace('.', '/')}.py"
        files[file].append((float(case.get("time", "0")), f"{file}::{case.get('name')}"))
    seen = {name for tests in files.values() for _, name in tests}
    left, stays = {n for n in listed() - seen if not n.startswith(ALWAYS)}, 0.0
    for tests in files.values():
        spent = 0.0
        for seconds, name in sorted(tests):
            if seconds < CHEAP or name.startswith(ALWAYS) or spent + seconds <= options.budget:
                spent += seconds
            else:
                left.add(name)
        stays += spent
    LIST.write_text(HEAD + "\n".join(sorted(left)) + "\n")
    print(f"{len(left)} tests are left out; {len(seen - left)} stay, with {stays:.0f} s of one core in this run")
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
