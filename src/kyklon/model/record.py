"""The base of every record."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class Record(BaseModel):
    """Immutable; unknown fields, infinities and NaN are errors."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)
