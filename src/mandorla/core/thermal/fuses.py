"""Thermal fuses in a march: where they sit, which of them opened when, and ratings between normal use and damage."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from mandorla.core.rig.bed import Bed
from mandorla.core.thermal.network_solver import Event
from mandorla.core.thermal.stack import Stack


@dataclass(frozen=True, slots=True)
class Trip:
    """A fuse that opened: ``key`` and name of its ``layer``, its ``rating`` (K), when (s from the march's start)."""

    key: str
    layer: str
    rating: float
    time: float


def closed_fuses(bed: Bed, stack: Stack) -> Event:
    """Nothing broken, and every fuse of a bed closed, each at the hottest cell of its layer."""
    places = np.zeros((len(bed.fuses), stack.dx.size))
    for f, fuse in enumerate(bed.fuses):
        places[f, stack.layer == bed.layer_index(fuse.layer)] = 1.0
    ratings = np.array([fuse.rating for fuse in bed.fuses], dtype=np.float64)
    free = np.full(1, -1.0)
    return Event(free, free, False, 1.0, places, ratings, np.full(len(bed.fuses), -1.0))


def trips_of(bed: Bed, event: Event) -> tuple[Trip, ...]:
    """The fuses that opened in a march, in their order."""
    found = [
        Trip(fuse.layer, bed.layer(fuse.layer).name, fuse.rating, float(t))
        for fuse, t in zip(bed.fuses, event.opened, strict=True)
        if t >= 0.0
    ]
    return tuple(sorted(found, key=lambda trip: trip.time))
