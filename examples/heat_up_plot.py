"""The demo's heat-up as a picture, with a general-purpose plotting library. Usage: heat_up_plot.py [FILE.png]."""

from __future__ import annotations

import sys

import matplotlib as mpl

mpl.use("Agg")
from matplotlib import pyplot as plt

import mandorla


def main() -> int:
    """Write the picture."""
    target = sys.argv[1] if len(sys.argv) > 1 else "heat-up.png"
    curves = mandorla.demo().curves()
    figure, axes = plt.subplots(figsize=(7, 4))
    for name in ("surface", "reading", "air"):
        axes.plot(curves["time"] / 60, curves[name] - 273.15, label=name)
    axes.set_xlabel("Time, min")
    axes.set_ylabel("Temperature, °C")
    axes.legend()
    figure.savefig(target, dpi=120)
    print(f"written: {target}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
