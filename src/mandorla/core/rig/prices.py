"""What a part of the rig costs, as its owner knows it."""

from __future__ import annotations

from pydantic import Field

from mandorla.core.model_base import Model


class Price(Model):
    """Price of one piece of an item of the bill of materials, by the item's key, in the project's currency."""

    item: str = Field(min_length=1, max_length=80)
    each: float = Field(ge=0.0, le=1e6)
