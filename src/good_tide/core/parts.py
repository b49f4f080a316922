"""Parts of history, and what each of them takes."""

from __future__ import annotations

from typing import Literal

import msgspec

By = Literal["folder", "kind", "period", "machine"]
"""What parts history is looked at by; a period is a month."""


class Taking(msgspec.Struct, frozen=True):
    """What one part of history takes: bytes that only it needs, and bytes that others need too."""

    name: str
    only_here: int
    shared: int
