"""Mandorla: thermal design, warp prediction and tuning for large or hot 3D-printed parts."""

__version__ = "0.2.0"
