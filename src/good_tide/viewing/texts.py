"""Text in any encoding, and tables kept as text."""

from __future__ import annotations

import csv
import io
import re

from good_tide.core.previews import Preview, Sheet, TablePreview, TextPreview
from good_tide.core.translation import tr
from good_tide.viewing.content import SNIFFED, Content, Unreadable

_TEXT_LIMIT = 512 * 1024
_ENCODINGS = [
    "utf_16",
    "utf_32",
    "cp1252",
    "cp1250",
    "cp1251",
    "cp1253",
    "cp1254",
    "koi8_r",
    "shift_jis",
    "euc_jp",
    "gb18030",
    "big5",
    "euc_kr",
    "mac_roman",
    "cp437",
]
"""Those in wide use: among all there are, a short text is taken for one that nobody writes."""
_MOST_ROWS, _MOST_COLUMNS, _LONGEST_CELL = 5000, 200, 2000
_MOST_CHARACTERS = 1 << 20
"""Of a table, counting eight for each cell."""
_NUMBER = re.compile(r"[-+]?[\d\s.,'’]*\d\s*[%€$£]?")


def decode_text(data: bytes) -> tuple[str | None, str]:
    """Text and the name of its encoding; None for what is no text."""
    if not data:
        return "", "empty"
    if b"\0" in data[:SNIFFED] and not data.startswith((b"\xff\xfe", b"\xfe\xff")):
        return None, ""
    try:
        return data.decode("utf-8-sig"), tr("UTF-8")
    except UnicodeDecodeError as error:
        if error.start > len(data) - 4 and len(data) >= _TEXT_LIMIT:  # cut within a character
            return data[: error.start].decode("utf-8-sig"), tr("UTF-8")
    import charset_normalizer  # large tables, only where a text is read

    best = charset_normalizer.from_bytes(data[: 64 * 1024], threshold=0.15, cp_isolation=_ENCODINGS).best()
    if best is None or best.encoding in ("ascii", "utf_7"):
        return None, ""
    text = data.decode(best.encoding, "replace")
    odd = sum(1 for character in text if not character.isprintable() and character not in "\r\n\t\f")
    return (None, "") if odd > len(text) // 50 else (text, best.encoding.replace("_", "-").upper())


class TextReader:
    """Everything that can be read as text."""

    limit = _TEXT_LIMIT

    def matches(self, name: str, head: bytes) -> bool:
        return True

    def preview(self, content: Content) -> Preview:
        text, encoding = decode_text(content.data)
        if text is None:
            raise Unreadable("")
        return TextPreview(text, encoding, cut=not content.whole)


class DelimitedReader:
    """Tables kept as text (RFC 4180, and what others write: semicolons, tabs)."""

    limit = _TEXT_LIMIT

    def matches(self, name: str, head: bytes) -> bool:
        return name.lower().endswith((".csv", ".tsv", ".tab"))

    def preview(self, content: Content) -> Preview:
        text, encoding = decode_text(content.data)
        if text is None:
            raise Unreadable("It is no text any more.")
        rows = _rows(text)
        if len(rows) < 2 or max(map(len, rows)) < 2:
            return TextPreview(text, encoding, cut=not content.whole)
        if not content.whole:
            rows.pop()  # it may be cut
        return TablePreview((sheet("", rows, cut=not content.whole),), "")


def _rows(text: str) -> list[list[str]]:
    """The rows of a table, by the separator with which most of its first lines are equally wide."""
    csv.field_size_limit(1 << 20)
    best: list[list[str]] = []
    steadiest = 0.0
    for separator in ",;\t|":
        try:
            rows = [row for row in csv.reader(io.StringIO(text), delimiter=separator) if row]
        except csv.Error:
            continue
        first = rows[:200]
        widths = [len(row) for row in first]
        usual = max(set(widths), key=widths.count, default=0)
        steady = 0.0 if usual < 2 else widths.count(usual) / len(widths) + usual / 1000
        if steady > steadiest:
            best, steadiest = rows, steady
    return best


def sheet(name: str, rows: list[list[str]], cut: bool = False) -> Sheet:
    """A table within bounds, and which of its columns are of numbers."""
    room = _MOST_CHARACTERS
    made: list[tuple[str, ...]] = []
    for row in rows[:_MOST_ROWS]:
        made.append(tuple(cell[:_LONGEST_CELL] for cell in row[:_MOST_COLUMNS]))
        room -= sum(map(len, made[-1])) + 8 * len(made[-1])
        if room < 0:
            break
    kept = tuple(made)
    width = max((len(row) for row in kept), default=0)
    numbers = frozenset(column for column in range(width) if _is_numeric(kept, column))
    return Sheet(name, kept, numbers, cut or len(rows) > len(kept))


def _is_numeric(rows: tuple[tuple[str, ...], ...], column: int) -> bool:
    cells = [row[column] for row in rows[1:200] if column < len(row) and row[column].strip()]
    return bool(cells) and sum(bool(_NUMBER.fullmatch(cell.strip())) for cell in cells) > 0.7 * len(cells)
