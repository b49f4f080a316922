"""In which versions of a file a phrase stands: in text and tables, and in the text of documents."""

from __future__ import annotations

import re
from collections.abc import Sequence

from good_tide.core.entries import Kind
from good_tide.core.errors import DamageError, PersonError
from good_tide.core.history import Span, TidePoint
from good_tide.core.name_query import folded
from good_tide.core.progress import Control, Progress
from good_tide.core.tide import Tide
from good_tide.core.translation import tr
from good_tide.operations.history.browse import entry_at
from good_tide.operations.history.showing import content_of
from good_tide.operations.stores.opened import snapshot_of
from good_tide.storage.store import Store
from good_tide.viewing.apart import Viewer
from good_tide.viewing.requests import Found, Says

_LIMIT = 32 << 20
"""Bytes of a file that are looked through."""
_SPACE = re.compile(r"\s+")


def containing(
    viewer: Viewer,
    store: Store,
    tide: Tide,
    life: Sequence[tuple[bytes, Span]],
    phrase: str,
    control: Control,
) -> list[bool | None]:
    """For each version of a file, under its path then, whether a phrase stands in it, without regard to
    capitals, accents and how words are spaced; None where that cannot be told: it is no file, no text, or
    lost.

    Raises:
        PlaceError: the disk gives nothing any more. StoppedError: the person stopped it.
    """
    wanted = _SPACE.sub(" ", folded(phrase)).strip()
    found: list[bool | None] = []
    known: dict[bytes, bool | None] = {}
    for number, (path, span) in enumerate(life):
        control.checkpoint()
        control.report(Progress(tr("Looking through versions"), number, len(life)))
        if span.kind != Kind.FILE:
            found.append(None)
            continue
        if span.identity not in known:
            known[span.identity] = _in_version(viewer, store, tide[span.first - 1], path, wanted)
        found.append(known[span.identity])
    return found


def _in_version(viewer: Viewer, store: Store, point: TidePoint, path: bytes, wanted: str) -> bool | None:
    try:
        content = content_of(store, entry_at(store, snapshot_of(store, point.name), path), _LIMIT)
    except (DamageError, PersonError):
        return None
    answer = viewer.ask(Says(content, wanted))
    return answer.stands if isinstance(answer, Found) else None
