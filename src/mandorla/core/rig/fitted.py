"""What measurements have taught about a rig: factors that no other field carries, and the provenance of a fitted version."""

from __future__ import annotations

import hashlib
import json
from typing import Self

from pydantic import Field, model_validator

from mandorla.core.model_base import Model
from mandorla.core.quantity_field import quantity


class Corrections(Model):
    """Factors on what correlations and panels say; 1 as long as nothing was measured."""

    convection: float = quantity("ratio", 0.3, 3.0, "Convection is", default=1.0)
    panels: float = quantity("ratio", 0.2, 5.0, "Panels let through", default=1.0)
    films: float = quantity("ratio", 0.2, 5.0, "Air films on the panels are", default=1.0)
    mixing: float = quantity("ratio", 0.1, 10.0, "Upper and lower air mix", default=1.0)


class FittedValue(Model):
    """One fitted unknown: what it was and became, as text, and its 90 % range now as a share of that before."""

    key: str = Field(min_length=1, max_length=80)
    name: str = Field(min_length=1, max_length=80)
    before: str = Field(max_length=60)
    after: str = Field(max_length=60)
    share: float = Field(ge=0.0, le=3.0)


class Fitted(Model):
    """Where a fitted rig comes from: the day, the logs, the mark of the rig before.

    ``covariance`` (n, n) of the values in units of their 90 % ranges before the fit: the identity would mean that nothing was
    learned; bands are computed with it.
    """

    date: str = Field(min_length=10, max_length=10, title="Fitted on")
    logs: tuple[str, ...] = Field(min_length=1, max_length=24)
    base: str = Field(max_length=64, title="Rig before")
    values: tuple[FittedValue, ...] = Field(min_length=1, max_length=40)
    covariance: tuple[tuple[float, ...], ...]

    @model_validator(mode="after")
    def _square(self) -> Self:
        n = len(self.values)
        if len(self.covariance) != n or any(len(row) != n for row in self.covariance):
            raise ValueError("the covariance of a fit must have a row and a column for each value")
        return self


def mark_of(rig: Model) -> str:
    """Twelve hexadecimal digits that change with any figure of a rig, but not with its name or its provenance."""
    data = rig.model_dump(mode="json", exclude={"name", "fitted"})
    bed = data["bed"]
    # factors that came later and say nothing leave older marks as they were
    data["corrections"] = {k: v for k, v in data["corrections"].items() if k in ("convection", "panels") or v != 1.0}
    # keys are no figures: marks of files that had none stay what they were
    names = {layer.pop("key"): layer["name"] for layer in bed["layers"]}
    for place in (bed["heater"], bed["sensor"], *bed["fuses"], *bed["spots"]):
        place["layer"] = names[place["layer"]]
    return hashlib.sha256(json.dumps(data, sort_keys=True).encode()).hexdigest()[:12]
