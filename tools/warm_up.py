"""Compiles the numerical kernels into their cache by evaluating the demo once; quick when the cache is there."""

from __future__ import annotations

import sys

from mandorla.core.installation.warming import warm

if __name__ == "__main__":
    warm(in_full="--all" in sys.argv)
