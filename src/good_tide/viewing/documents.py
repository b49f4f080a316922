"""The text and the tables of office documents."""

from __future__ import annotations

import html
import re
import zipfile
from collections.abc import Iterator
from datetime import date, datetime, time

from good_tide.core.previews import Preview, Sheet, TablePreview, TextPreview
from good_tide.viewing.content import Content, Unreadable
from good_tide.viewing.guards import check_document
from good_tide.viewing.texts import sheet

_LIMIT = 32 << 20
_LONGEST_TEXT = 1 << 20
_MOST_SHEETS, _MOST_ROWS, _MOST_COLUMNS = 20, 3000, 100
_PARTS = re.compile(r"(content\.xml|ppt/slides/slide\d+\.xml)")
"""Where presentations have their text (OpenDocument 1.3, part 3; ECMA-376, part 1)."""
_BREAKS = re.compile(r"</(?:text:p|text:h|a:p)>|<(?:text:tab|text:line-break|a:br)\b[^>]*>")
_TAGS = re.compile(r"<[^>]*>")


class OfficeReader:
    """Texts, tables and presentations: OpenDocument and Office Open XML."""

    limit = _LIMIT

    def matches(self, name: str, head: bytes) -> bool:
        return head.startswith(b"PK\x03\x04") and name.lower().endswith(tuple(_READERS))

    def preview(self, content: Content) -> Preview:
        if not content.whole:
            raise Unreadable("The document is too large to be shown here.")
        try:
            with zipfile.ZipFile(content.stream()) as archive:
                check_document(archive)
        except (zipfile.BadZipFile, NotImplementedError) as error:
            raise Unreadable("The document is damaged.") from error
        return _READERS["." + content.suffix](content)


def _word_text(content: Content) -> Preview:
    """ECMA-376 word processing: paragraphs, and tables with a line for each row."""
    import docx  # only where something hostile may be read
    from docx.table import Table

    lines = []
    for part in docx.Document(content.stream()).iter_inner_content():
        if isinstance(part, Table):
            lines += ["\t".join(cell.text for cell in row.cells) for row in part.rows]
        else:
            lines.append(part.text)
    return _text(lines, "Text of the document")


def _text(lines: list[str], origin: str) -> TextPreview:
    """A text within bounds."""
    text = "\n".join(lines)
    return TextPreview(text[:_LONGEST_TEXT], origin=origin, cut=len(text) > _LONGEST_TEXT)


def _open_text(content: Content) -> Preview:
    """OpenDocument text."""
    import odfdo  # only where something hostile may be read

    body = odfdo.Document(content.stream()).body
    lines = [part.text_recursive for part in body.get_elements("//text:h | //text:p")]
    return _text(lines, "Text of the document")


def _open_tables(content: Content) -> Preview:
    """OpenDocument tables."""
    import odfdo  # only where something hostile may be read

    sheets = []
    for table in odfdo.Document(content.stream()).body.tables[:_MOST_SHEETS]:
        rows: list[list[str]] = []
        for row in table.iter_rows():
            if len(rows) == _MOST_ROWS:
                break
            repeated = min(row.repeated or 1, _MOST_ROWS - len(rows))
            cells = list(_open_cells(row))
            rows += [cells] * (repeated if any(cells) else 1)
        sheets.append(_trimmed(table.name or "", rows))
    return TablePreview(_bounded(sheets), "Tables of the document")


def _open_cells(row: object) -> Iterator[str]:
    left = _MOST_COLUMNS
    for cell in row.get_elements("table:table-cell | table:covered-table-cell"):  # type: ignore[attr-defined]
        for _ in range(min(cell.repeated or 1, left)):
            left -= 1
            yield cell.text_recursive.strip()
        if left <= 0:
            return


def _sheets(content: Content) -> Preview:
    """ECMA-376 spreadsheets: the values as they were last worked out."""
    import openpyxl  # only where something hostile may be read

    book = openpyxl.load_workbook(content.stream(), read_only=True, data_only=True, keep_links=False)
    sheets = []
    for table in book.worksheets[:_MOST_SHEETS]:
        rows = [
            [_cell_words(value) for value in row]
            for row in table.iter_rows(max_row=_MOST_ROWS, max_col=_MOST_COLUMNS, values_only=True)
        ]
        sheets.append(_trimmed(table.title, rows))
    return TablePreview(_bounded(sheets), "Tables of the document")


def _bounded(sheets: list[Sheet]) -> tuple[Sheet, ...]:
    """As many tables as are sent: at least the first."""
    room = 2 * _LONGEST_TEXT
    kept: list[Sheet] = []
    for one in sheets:
        room -= _length(one)
        if room < 0 and kept:
            break
        kept.append(one)
    return tuple(kept)


def _length(table: Sheet) -> int:
    return sum(len(cell) + 8 for row in table.rows for cell in row)


def _cell_words(value: object) -> str:
    match value:
        case None:
            return ""
        case datetime():
            return value.strftime("%Y-%m-%d" if value.time() == time() else "%Y-%m-%d %H:%M")
        case date():
            return value.isoformat()
        case float():
            return f"{value:.10g}"
        case _:
            return str(value)


def _trimmed(name: str, rows: list[list[str]]) -> Sheet:
    """A table without the empty rows at its end and the empty cells at the end of its rows."""
    kept = []
    for row in rows:
        while row and not row[-1]:
            row = row[:-1]
        kept.append(row)
    while kept and not kept[-1]:
        kept.pop()
    return sheet(name, kept, cut=len(rows) >= _MOST_ROWS)


def _slides(content: Content) -> Preview:
    """The text of presentations, as it stands between the marks; nothing is parsed."""
    words = []
    with zipfile.ZipFile(content.stream()) as archive:
        for info in sorted(archive.infolist(), key=lambda one: (len(one.filename), one.filename)):
            if _PARTS.fullmatch(info.filename):
                text = archive.read(info).decode("utf-8", "replace")
                words.append(html.unescape(_TAGS.sub("", _BREAKS.sub("\n", text))))
    if not words:
        raise Unreadable("The presentation has no text that can be shown.")
    return _text(words, "Text of the presentation")


_READERS = {
    ".docx": _word_text,
    ".docm": _word_text,
    ".odt": _open_text,
    ".ott": _open_text,
    ".ods": _open_tables,
    ".xlsx": _sheets,
    ".xlsm": _sheets,
    ".pptx": _slides,
    ".odp": _slides,
}
