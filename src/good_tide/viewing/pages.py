"""Documents that are made of pages (PDF, ISO 32000), as pictures and as text."""

from __future__ import annotations

import time

from good_tide.core.previews import PagesPreview, Pixels, Preview
from good_tide.core.translation import tr
from good_tide.viewing.content import Content, Unreadable
from good_tide.viewing.pictures import as_pixels

_MOST_SHOWN, _MOST_READ = 12, 200
_WIDTH = 900
_SECONDS = 2.5
"""For so long pages are drawn; then it is enough."""
_LONGEST_TEXT = 512 * 1024
_MOST_PACKED = 1 << 20
"""Bytes of a page, packed; of all pages three times as many."""


class PageReader:
    """PDF documents."""

    limit = 48 << 20

    def matches(self, name: str, head: bytes) -> bool:
        return b"%PDF-" in head[:1024]

    def preview(self, content: Content) -> Preview:
        import pypdfium2  # only where something hostile may be read

        if not content.whole:
            raise Unreadable("The PDF document is too large to be shown here.")
        try:
            document = pypdfium2.PdfDocument(content.data)
        except pypdfium2.PdfiumError as error:
            locked = "password" in str(error).lower()
            raise Unreadable(
                "The PDF document is locked with a password." if locked else "The PDF document is damaged."
            ) from error
        count = len(document)
        pages: list[Pixels] = []
        words: list[str] = []
        begun, room = time.monotonic(), 3 * _MOST_PACKED
        for number in range(min(count, _MOST_READ)):
            if time.monotonic() - begun > _SECONDS:
                break
            try:
                page = document[number]
                words.append(page.get_textpage().get_text_range())
                if number < _MOST_SHOWN and room > 0:
                    scale = min(_WIDTH / max(1.0, page.get_width()), 1400 / max(1.0, page.get_height()))
                    pages.append(as_pixels(page.render(scale=scale).to_pil(), most=_MOST_PACKED))
                    room -= len(pages[-1].packed)
            except pypdfium2.PdfiumError:
                words.append(tr("(page {number} is damaged)").format(number=number + 1))
        if not pages:
            raise Unreadable("The PDF document has no page that can be shown.")
        return PagesPreview(tuple(pages), count, "\n".join(words)[:_LONGEST_TEXT], "PDF document")
