"""What is shown of one version of a file: plain values, made apart from everything else (``viewing``)."""

from __future__ import annotations

import msgspec

LARGEST_SIDE = 1400
"""Pixels that a picture is wide or high at most; larger ones are shown smaller."""


class TextPreview(msgspec.Struct, frozen=True, tag="text"):
    """A text in its ``encoding``. ``origin`` says what it is the text of, where that is no plain text file;
    ``cut``: only the beginning."""

    text: str
    encoding: str = "UTF-8"
    origin: str = ""
    cut: bool = False


class Sheet(msgspec.Struct, frozen=True):
    """A table: rows of cells as they are read. ``numbers`` are the columns in which numbers stand."""

    name: str
    rows: tuple[tuple[str, ...], ...]
    numbers: frozenset[int] = frozenset()
    cut: bool = False

    @property
    def width(self) -> int:
        """Columns of the widest row."""
        return max((len(row) for row in self.rows), default=0)


class TablePreview(msgspec.Struct, frozen=True, tag="table"):
    """One or more tables; ``origin`` says of what."""

    sheets: tuple[Sheet, ...]
    origin: str


class Pixels(msgspec.Struct, frozen=True):
    """A picture: rows of red, green, blue and opacity, a byte each, packed with Zstandard (RFC 8878)."""

    width: int
    height: int
    packed: bytes


class PicturePreview(msgspec.Struct, frozen=True, tag="picture"):
    """A picture, made smaller where it is large, and facts about it in words."""

    pixels: Pixels
    facts: str


class SoundPreview(msgspec.Struct, frozen=True, tag="sound"):
    """A sound: how long it is, and the lowest and highest of each of equally long stretches, from -1 to 1."""

    seconds: float
    facts: str
    low: tuple[float, ...]
    high: tuple[float, ...]
    cut: bool = False


class PagesPreview(msgspec.Struct, frozen=True, tag="pages"):
    """The first pages of a document as pictures, of so many; and their text."""

    pages: tuple[Pixels, ...]
    count: int
    text: str
    origin: str


class Listed(msgspec.Struct, frozen=True):
    """Something in an archive: size in bytes, time in seconds since 1970 UTC or None."""

    path: str
    size: int
    time: float | None = None
    folder: bool = False


class ListingPreview(msgspec.Struct, frozen=True, tag="listing"):
    """What is in an archive; ``total`` bytes when unpacked, as far as the archive says."""

    items: tuple[Listed, ...]
    count: int
    total: int
    origin: str
    cut: bool = False


class FactsPreview(msgspec.Struct, frozen=True, tag="facts"):
    """Facts in words and the first bytes, for what can be shown in no other way; ``trouble`` says why, where
    one would expect more."""

    words: str
    first: bytes = b""
    trouble: str = ""


Preview = (
    TextPreview | TablePreview | PicturePreview | SoundPreview | PagesPreview | ListingPreview | FactsPreview
)


def lines_of(shown: Preview) -> list[str] | None:
    """What is shown as lines of text, for comparing and finding; None for what has none."""
    match shown:
        case TextPreview(text=text) | PagesPreview(text=text):
            return text.splitlines()
        case TablePreview(sheets=sheets):
            lines = []
            for sheet in sheets:
                lines += [f"[{sheet.name}]"] if len(sheets) > 1 else []
                lines += ["\t".join(row) for row in sheet.rows]
            return lines
        case ListingPreview(items=items):
            return [f"{item.path}\t{item.size}" for item in items]
        case _:
            return None
