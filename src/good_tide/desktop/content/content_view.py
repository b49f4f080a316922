"""Shows what a version holds, or how it compares, on the page for its kind."""

from __future__ import annotations

from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QButtonGroup, QHBoxLayout, QStackedWidget, QToolButton, QVBoxLayout, QWidget

from good_tide.core.comparing import Compared
from good_tide.core.previews import (
    FactsPreview,
    ListingPreview,
    PagesPreview,
    PicturePreview,
    Preview,
    SoundPreview,
    TablePreview,
    TextPreview,
)
from good_tide.core.translation import tr
from good_tide.core.words import count_words
from good_tide.desktop.content.listing_page import ListingPage
from good_tide.desktop.content.page import Arrangement, Page
from good_tide.desktop.content.picture_pages import PagesPage, PicturePage, SoundPage
from good_tide.desktop.content.table_pages import TableDifferencePage, TablePage
from good_tide.desktop.content.text_pages import DifferencePage, TextPage
from good_tide.desktop.painting.palette import Palette

_WIDE = 620
"""Pixels from which on two versions are shown beside each other, unless somebody chose otherwise."""
_LONG_LINE = 80
"""Characters of a line from which on texts are rather read in one column, where lines are broken."""
_HEX_LINE = 16


class ContentView(QWidget):
    """A page for each kind of content, and buttons for the ways in which two versions can be shown."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._chosen: Arrangement | None = None
        self._wide = self._long = False
        self.text, self.table, self.picture = TextPage(look), TablePage(look), PicturePage(look)
        self.sound, self.pages, self.listing = SoundPage(look), PagesPage(look), ListingPage()
        self.difference, self.tables = DifferencePage(look), TableDifferencePage(look)
        self._stack = QStackedWidget()
        for page in (
            self.text,
            self.table,
            self.picture,
            self.sound,
            self.pages,
            self.listing,
            self.difference,
            self.tables,
        ):
            self._stack.addWidget(page)
        self._ways = QButtonGroup(self)
        self._row = QHBoxLayout()
        self._row.setSpacing(2)
        self._buttons: dict[Arrangement, QToolButton] = {}
        for number, way in enumerate(Arrangement):
            made = QToolButton()
            made.setText(tr(way.value))
            made.setCheckable(True)
            self._ways.addButton(made, number)
            self._buttons[way] = made
            self._row.addWidget(made)
        self._row.addStretch()
        self._ways.idClicked.connect(self._choose)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addLayout(self._row)
        layout.addWidget(self._stack, 1)
        self._offer(())

    @property
    def page(self) -> Page:
        """The page that is shown."""
        page = self._stack.currentWidget()
        assert isinstance(page, Page)
        return page

    def show_preview(self, shown: Preview, now: int) -> None:
        """Show one version."""
        self._offer(())
        match shown:
            case TextPreview():
                self.text.show_text(shown.text, _text_note(shown))
                self._turn(self.text)
            case TablePreview():
                self.table.show_tables(shown)
                self._turn(self.table)
            case PicturePreview():
                self.picture.show_pictures(shown)
                self._turn(self.picture)
            case SoundPreview():
                self.sound.show_sounds(shown)
                self._turn(self.sound)
            case PagesPreview():
                self.pages.show_pages([shown.pages], _pages_note(shown))
                self._turn(self.pages)
            case ListingPreview():
                self.listing.show_listing(shown, now)
                self._turn(self.listing)
            case FactsPreview():
                self.text.show_text(_facts(shown), numbered=False)
                self._turn(self.text)

    def show_comparison(self, compared: Compared, names: tuple[str, str], now: int) -> None:
        """Show two versions; ``names`` are what the chosen one and the other are called."""
        self._long = False
        match compared.chosen, compared.other:
            case (TablePreview() as mine, TablePreview() as other) if compared.tables:
                self.tables.show_difference(compared.tables, mine, other, names)
                self._turn(self.tables)
            case PicturePreview() as mine, PicturePreview() as other:
                self.picture.show_pictures(mine, other, names)
                self._turn(self.picture)
            case SoundPreview() as mine, SoundPreview() as other:
                self.sound.show_sounds(mine, other, names)
                self._turn(self.sound)
            case (PagesPreview() as mine, PagesPreview() as other) if not mine.text.strip():
                self.pages.show_pages(
                    [mine.pages, other.pages],
                    tr("Left: {names}. Right: {names_2}.").format(names=names[0], names_2=names[1]),
                )
                self._turn(self.pages)
            case _ if compared.text is not None:
                self._long = any(
                    side is not None and len(side.text) > _LONG_LINE
                    for pair in compared.text.pairs
                    for side in (pair.left, pair.right)
                )
                self.difference.show_difference(compared.text, *names)
                self._turn(self.difference)
            case _:
                self.show_preview(compared.chosen, now)
                return
        self._offer(self.page.arrangements)

    def resizeEvent(self, event: QResizeEvent) -> None:  # noqa: N802
        super().resizeEvent(event)
        wide = self.width() >= _WIDE
        if wide is not self._wide:
            self._wide = wide
            if self._buttons[Arrangement.ONE].isVisibleTo(self):
                self._offer(self.page.arrangements)

    def _turn(self, page: Page) -> None:
        self._stack.setCurrentWidget(page)

    def _offer(self, ways: tuple[Arrangement, ...]) -> None:
        """Offer ways to show two versions, and show them in the one that was chosen, or fits."""
        for way, made in self._buttons.items():
            made.setVisible(way in ways)
        if not ways:
            return
        way = self._chosen if self._chosen in ways else ways[0]
        if self._chosen is None and Arrangement.ONE in ways and (self._long or not self._wide):
            way = Arrangement.ONE
        assert way is not None
        self._buttons[way].setChecked(True)
        self.page.arrange(way)

    def _choose(self, number: int) -> None:
        self._chosen = list(Arrangement)[number]
        self.page.arrange(self._chosen)


def _text_note(shown: TextPreview) -> str:
    if shown.cut:
        return tr("Only the beginning is shown.")
    if not shown.text and shown.encoding == "empty":
        return tr("An empty file")
    if shown.encoding not in ("UTF-8", "empty"):
        return tr("Read as {encoding}.").format(encoding=shown.encoding)
    return shown.origin


def _pages_note(shown: PagesPreview) -> str:
    few = (
        ", " + tr("the first {pages} of them here").format(pages=len(shown.pages))
        if shown.count > len(shown.pages)
        else ""
    )
    return f"{shown.origin}, {count_words(shown.count, 'page')}{few}"


def _facts(shown: FactsPreview) -> str:
    """Facts, and the first bytes in lines: where, in digits, as letters."""
    lines = [shown.trouble, ""] if shown.trouble else []
    lines += [*shown.words.split("\n"), ""]
    for at in range(0, len(shown.first), _HEX_LINE):
        part = shown.first[at : at + _HEX_LINE]
        letters = "".join(chr(byte) if 32 <= byte < 127 else "·" for byte in part)
        lines.append(f"{at:04x}  {part.hex(' '):<47}  {letters}")
    return "\n".join(lines)
