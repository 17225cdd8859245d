"""The base of everything a person can edit: frozen, extra fields forbidden, numbers finite."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class Model(BaseModel):
    """Frozen pydantic model that refuses unknown fields and numbers that are not finite."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False, ser_json_inf_nan="constants")
