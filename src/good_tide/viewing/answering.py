"""Answers what is asked of files. All of it parses what may be hostile: called in a process of its own
only."""

from __future__ import annotations

import re

import msgspec

from good_tide.core.comparing import (
    Compared,
    Counted,
    TableDifference,
    compare_lines,
    compare_tables,
    count_lines,
)
from good_tide.core.name_query import folded
from good_tide.core.previews import (
    FactsPreview,
    ListingPreview,
    PagesPreview,
    PicturePreview,
    Pixels,
    Preview,
    SoundPreview,
    TablePreview,
    TextPreview,
    lines_of,
)
from good_tide.viewing.content import Content
from good_tide.viewing.readers import preview
from good_tide.viewing.requests import (
    Answer,
    Compare,
    Count,
    Found,
    Request,
    Says,
    Show,
    Shown,
)
from good_tide.viewing.texts import decode_text

_SMALL_LINES, _SMALL_COLUMNS, _SMALL_SIDE = 12, 80, 220
_SPACE = re.compile(r"\s+")


def answer(request: Request) -> Answer:
    """Answer a request."""
    match request:
        case Show(content=content, small=small):
            found = preview(content)
            return Shown(_small(found) if small else found)
        case Compare(chosen=chosen, other=other):
            return _compare(chosen, other)
        case Count(chosen=chosen, other=other):
            mine, theirs = lines_of(preview(chosen)), lines_of(preview(other))
            if mine is None or theirs is None:
                return Counted(lines=False)
            return Counted(*count_lines(mine, theirs))
        case Says(content=content, phrase=phrase):
            return Found(_says(content, phrase))


def _compare(chosen: Content, other: Content) -> Compared:
    mine, theirs = preview(chosen), preview(other)
    tables: tuple[TableDifference, ...] = ()
    if isinstance(mine, TablePreview) and isinstance(theirs, TablePreview):
        named = {sheet.name: sheet for sheet in theirs.sheets}
        tables = tuple(
            compare_tables(sheet.name, sheet.rows, named[sheet.name].rows if sheet.name in named else ())
            for sheet in mine.sheets
        )
    left, right = lines_of(mine), lines_of(theirs)
    text = compare_lines(left, right) if left is not None and right is not None else None
    return Compared(mine, theirs, text, tables)


def _says(content: Content, phrase: str) -> bool | None:
    """Whether it stands in the text as it is shown, or as it is kept."""
    shown = preview(content)
    lines = None if isinstance(shown, ListingPreview) else lines_of(shown)
    kept = decode_text(content.data)[0] if isinstance(shown, TextPreview | TablePreview) else None
    texts = ["\n".join(lines)] if lines is not None else []
    texts += [kept] if kept is not None else []
    return any(phrase in _SPACE.sub(" ", folded(text)) for text in texts) if texts else None


def _small(shown: Preview) -> Preview:
    """A glimpse of it."""
    match shown:
        case PicturePreview(pixels=pixels):
            return PicturePreview(_thumbnail(pixels), shown.facts)
        case PagesPreview(pages=pages):
            first = tuple(_thumbnail(page) for page in pages[:1])
            return msgspec.structs.replace(shown, pages=first, text="")
        case SoundPreview() | FactsPreview():
            return shown
        case TextPreview() | TablePreview() | ListingPreview():
            lines = lines_of(shown) or []
            few = [line[:_SMALL_COLUMNS].replace("\t", "   ") for line in lines[:_SMALL_LINES]]
            return TextPreview("\n".join(few), cut=len(lines) > len(few))


def _thumbnail(pixels: Pixels) -> Pixels:
    import zstandard  # only where something hostile was read
    from PIL import Image

    from good_tide.viewing.pictures import as_pixels

    plain = zstandard.decompress(pixels.packed, max_output_size=4 * pixels.width * pixels.height)
    return as_pixels(Image.frombytes("RGBA", (pixels.width, pixels.height), plain), _SMALL_SIDE)
