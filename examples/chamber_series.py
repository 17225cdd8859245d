"""The demo's part at several chamber temperatures: chance, energy, and what fails first."""

from __future__ import annotations

import sys

import mandorla


def main() -> int:
    """Print a table."""
    demo = mandorla.demo()
    print("chamber   fails    energy   first")
    for chamber in (40, 50, 60, 66):
        study = demo.with_values({"settings.chamber": f"{chamber} °C", "settings.bed_rest": "102 °C"})
        found, judged = study.evaluation(), study.judgement()
        assert found.energy is not None
        first = judged.titles.get(judged.first, "nothing")
        print(f"{chamber:4d} °C  {100 * judged.anything:5.1f} %  {found.energy.total / 3.6e6:5.2f} kWh   {first}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
