"""What a store may have that not every program knows: names in its header, given when it is made."""

from __future__ import annotations

LEANING = "leaning"
"""Chunks may be compressed against others that they lean on (``packed``)."""

KNOWN_FEATURES = frozenset({LEANING})
"""What this program reads."""
NEW_FEATURES = (LEANING,)
"""What a new store has."""
