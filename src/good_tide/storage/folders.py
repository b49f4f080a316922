"""The folders of a store. ``docs/format.md`` ("Files") says what is in them."""

from __future__ import annotations

import re

from good_tide.core.identifiers import NAME_BYTES

INDEX_FOLDER = "index"
SNAPSHOT_FOLDER = "snapshots"
PACK_FOLDER = "packs"

_DIGITS = b"0123456789abcdef"
_OWN_NAME = re.compile(f"[0-9a-f]{{{2 * NAME_BYTES}}}")


def own_names(names: list[str]) -> list[str]:
    """The names in a folder that a store gives to its files; nothing else in it counts."""
    if set(map(len, names)) <= {2 * NAME_BYTES}:
        every = "".join(names).encode("utf-8", "surrogatepass")  # a server may give any
        if not every.translate(None, _DIGITS):
            return names  # all of them, as nearly always; one by one costs more
    return [name for name in names if _OWN_NAME.fullmatch(name)]
