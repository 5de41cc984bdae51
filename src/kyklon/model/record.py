"""The base of every record."""

from __future__ import annotations

import os

os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "1")  # none is used, and looking for them takes a while

from pydantic import BaseModel, ConfigDict


class Record(BaseModel):
    """Immutable; unknown fields, infinities and NaN are errors."""

    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)
