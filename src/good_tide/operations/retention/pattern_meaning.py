"""What somebody means who names a path or a pattern in history: a path as it was printed, before it is taken
for a pattern."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence

from good_tide.core.entries import Entry, Kind
from good_tide.core.identifiers import PageId
from good_tide.core.records import Snapshot
from good_tide.core.rules import path_pattern
from good_tide.core.words import printable
from good_tide.storage.store import Store


def meanings(store: Store, found: Sequence[Snapshot], pattern: str, home: str) -> Iterator[tuple[str, str]]:
    """What a pattern may mean, with what ``~`` stands for: an absolute path in a covered folder, a pattern in
    one, a pattern in all."""
    if pattern.startswith("/"):
        roots = sorted({root.name for snapshot in found for root in store.roots(snapshot.record)}, key=len)
        inside = [root for root in roots if pattern.startswith(printable(root).rstrip("/") + "/")]
        for root in inside[:1]:
            path = _printed(store, found, pattern)
            if path is not None:
                yield path_pattern(os.fsdecode(path), os.fsdecode(root), ()), os.fsdecode(root)
            yield "~" + pattern[len(printable(root).rstrip("/")) :], os.fsdecode(root)
    yield pattern, home


def _printed(store: Store, found: Sequence[Snapshot], text: str) -> bytes | None:
    """The path that was printed as ``text``, if any snapshot holds it."""
    known: dict[tuple[tuple[PageId, ...], str], Entry | None] = {}
    for snapshot in reversed(found):
        for root in store.roots(snapshot.record):
            shown = printable(root.name).rstrip("/")
            if not text.startswith(shown + "/"):
                continue
            entry, path = root, root.name.rstrip(b"/")
            for part in text[len(shown) + 1 :].rstrip("/").split("/"):
                key = entry.pages, part
                if key not in known:
                    listing = store.listing(entry.pages) if entry.kind is Kind.FOLDER else []
                    known[key] = next((one for one in listing if printable(one.name) == part), None)
                child = known[key]
                if child is None:
                    break
                entry, path = child, path + b"/" + child.name
            else:
                return path
    return None
