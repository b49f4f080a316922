"""The home that folders were in, as far as their paths tell."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import PurePosixPath


def home_of(folders: Sequence[bytes]) -> str:
    """The home that folders were in; empty where they were in several, or in none."""
    homes = set()
    for folder in folders:
        parts = PurePosixPath(os.fsdecode(folder)).parts
        homes.add("/".join(("", *parts[1:3])) if len(parts) > 2 and parts[1] == "home" else "")
    return homes.pop() if len(homes) == 1 else ""
