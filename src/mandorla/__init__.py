"""Mandorla: thermal design, warp prediction and tuning for large or hot 3D-printed parts."""

import os

__version__ = "0.2.0"

# Matrices here are small: threads of the linear algebra library cost more than they bring (a draft simulation 3.0 s, 1.9 s with
# one), compete with jobs that run side by side, and make the last digits depend on the number of cores. Before numpy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
