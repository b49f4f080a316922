"""In which versions of a file a phrase stands: in text and tables, and in the text of office documents."""

from __future__ import annotations

import contextlib
import html
import io
import lzma
import re
import zipfile
import zlib
from collections.abc import Sequence

from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import DamageError, PersonError
from good_tide.core.history import Span, TidePoint
from good_tide.core.name_query import folded
from good_tide.core.progress import Control, Progress
from good_tide.operations.history.browse import entry_at, read_file
from good_tide.operations.history.preview import decode_text
from good_tide.operations.stores.opened import snapshot_of
from good_tide.storage.store import Store

_LIMIT = 32 << 20
"""Bytes of a file that are looked through, and of the text in a document."""
_PARTS = re.compile(r"(content\.xml|word/document\.xml|xl/sharedStrings\.xml|ppt/slides/slide\d+\.xml)")
"""Where office documents have their text (OpenDocument 1.3, part 3; ECMA-376, part 1)."""
_BREAKS = re.compile(rb"</(?:text:p|text:h|w:p|si|a:p)>|<(?:text:tab|text:line-break|w:tab|w:br)\b[^>]*>")
_TAGS = re.compile(rb"<[^>]*>")
_BROKEN = (
    zipfile.BadZipFile,
    zlib.error,
    lzma.LZMAError,
    NotImplementedError,  # a kind of compression that is not known
    RuntimeError,  # it wants a password
    OSError,
    EOFError,
    ValueError,
)
"""What reading a damaged archive raises."""
_SPACE = re.compile(r"\s+")


def text_of(data: bytes) -> str | None:
    """The text in the bytes of a file; None for what has none. Nothing in it is parsed but for the list of a
    ZIP archive, and no more is unpacked than the limit."""
    if data.startswith(b"PK\x03\x04"):
        with contextlib.suppress(*_BROKEN):
            return _document(data)
        return None
    return decode_text(data)[0]


def _document(data: bytes) -> str | None:
    words: list[str] = []
    left = _LIMIT
    with zipfile.ZipFile(io.BytesIO(data)) as archive:
        for info in archive.infolist():
            if _PARTS.fullmatch(info.filename) and left > 0:
                with archive.open(info) as part:
                    content = part.read(left)
                left -= len(content)
                plain = _TAGS.sub(b"", _BREAKS.sub(b"\n", content))
                words.append(html.unescape(plain.decode("utf-8", "replace")))
    return "\n".join(words) if words else None


def _has(text: str | None, phrase: str) -> bool:
    return text is not None and phrase in _SPACE.sub(" ", folded(text))


def containing(
    store: Store,
    tide: Sequence[TidePoint],
    spans: Sequence[Span],
    path: bytes,
    phrase: str,
    control: Control,
) -> list[bool | None]:
    """For each version of a file whether a phrase stands in it, without regard to capitals, accents and how
    words are spaced; None where that cannot be told: it is no file, no text, or lost.

    Raises:
        PlaceError: the disk gives nothing any more. StoppedError: the person stopped it.
    """
    wanted = _SPACE.sub(" ", folded(phrase)).strip()
    found: list[bool | None] = []
    known: dict[bytes, bool | None] = {}
    for number, span in enumerate(spans):
        control.checkpoint()
        control.report(Progress("Looking through versions", number, len(spans)))
        if span.kind != Kind.FILE:
            found.append(None)
            continue
        if span.identity not in known:
            known[span.identity] = _in_version(store, tide[span.first - 1], path, wanted)
        found.append(known[span.identity])
    return found


def _in_version(store: Store, point: TidePoint, path: bytes, wanted: str) -> bool | None:
    try:
        entry: Entry = entry_at(store, snapshot_of(store, point.name), path)
        text = text_of(read_file(store, entry, _LIMIT))
    except (DamageError, PersonError):
        return None
    return None if text is None else _has(text, wanted)
