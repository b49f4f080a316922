"""Pages of text: one version, or two with what differs marked."""

from __future__ import annotations

from collections.abc import Iterator

from PySide6.QtWidgets import QHBoxLayout, QVBoxLayout

from good_tide.core.comparing import Difference, Pair, Side, Stretch
from good_tide.core.translation import tr
from good_tide.core.words import number_words
from good_tide.desktop.content.page import Arrangement, Page
from good_tide.desktop.content.text_edit import ReadText
from good_tide.desktop.painting.palette import Palette
from good_tide.desktop.painting.widgets import OneLine

_Line = tuple[str, str, str, tuple[Stretch, ...]]
_MOST_LINES = 20_000


class TextPage(Page):
    """One text, with a line below it that says what is to be said of it."""

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self.text = ReadText(look, tr("Content of the version"))
        self._note = OneLine("quiet")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(4)
        layout.addWidget(self.text, 1)
        layout.addWidget(self._note)

    def show_text(self, text: str, note: str = "", numbered: bool = True) -> None:
        """Show a text."""
        lines = text.split("\n")
        shown = lines[:_MOST_LINES]
        if len(lines) > len(shown):
            note = tr("Only the beginning is shown.")
        self.text.show_lines(
            (str(number) if numbered else "", words.rstrip("\r"), "", ())
            for number, words in enumerate(shown, 1)
        )
        self._note.setText(note)
        self._note.setVisible(bool(note))

    def mark_words(self, words: str) -> int:
        return self.text.mark(words)

    def go_to_word(self, backward: bool = False) -> None:
        self.text.go(backward)


class DifferencePage(Page):
    """Two texts. Beside each other, or in one column with a sign before each line that differs: + what the
    chosen version has, − what only the other has."""

    arrangements = (Arrangement.BESIDE, Arrangement.ONE)

    def __init__(self, look: Palette) -> None:
        super().__init__()
        self._difference = Difference((), 0, 0, 0)
        self.left = ReadText(look, tr("The chosen version"))
        self.right = ReadText(look, tr("What it is compared with"))
        self.one = ReadText(look, tr("What differs, line by line"))
        self.left.follow(self.right)
        self._left_head, self._right_head, self._one_head = (
            OneLine("quiet"),
            OneLine("quiet"),
            OneLine("quiet"),
        )
        beside = QHBoxLayout()
        beside.setSpacing(8)
        for head, text in ((self._left_head, self.left), (self._right_head, self.right)):
            column = QVBoxLayout()
            column.setSpacing(2)
            column.addWidget(head)
            column.addWidget(text, 1)
            beside.addLayout(column, 1)
            text.wrap(False)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(2)
        layout.addWidget(self._one_head)
        layout.addWidget(self.one, 1)
        layout.addLayout(beside, 1)
        self._beside = False

    def show_difference(self, difference: Difference, mine: str, other: str) -> None:
        """Show what differs; ``mine`` and ``other`` are what the two are called."""
        self._difference = difference
        self._left_head.setText(mine)
        self._right_head.setText(other)
        cut = "; " + tr("only the beginnings were compared") if difference.cut else ""
        self._one_head.setText(f"+ {mine}   − {other}{cut}")
        self._fill()

    def arrange(self, arrangement: Arrangement) -> None:
        self._beside = arrangement is Arrangement.BESIDE
        self._fill()

    def _fill(self) -> None:
        for widget in (self.left, self.right, self._left_head, self._right_head):
            widget.setVisible(self._beside)
        for widget in (self.one, self._one_head):
            widget.setVisible(not self._beside)
        if self._beside:
            self.left.show_lines(_side(self._difference.pairs, True))
            self.right.show_lines(_side(self._difference.pairs, False))
        else:
            self.one.show_lines(_in_one(self._difference.pairs))

    def mark_words(self, words: str) -> int:
        if self._beside:
            return self.left.mark(words) + self.right.mark(words)
        return self.one.mark(words)

    def go_to_word(self, backward: bool = False) -> None:
        if not self._beside:
            self.one.go(backward)
        elif not self.left.go(backward):
            self.right.go(backward)


def _jumps(pairs: tuple[Pair, ...]) -> Iterator[tuple[Pair, int]]:
    """The pairs, each with how many equal lines were left away before it."""
    last = 0
    for pair in pairs:
        number = pair.left.number if pair.left is not None else last
        yield pair, max(0, number - last - 1)
        last = number


def _side(pairs: tuple[Pair, ...], chosen: bool) -> Iterator[_Line]:
    sign, ground = ("+", "kelp_soft") if chosen else ("−", "coral_soft")
    for pair, away in _jumps(pairs):
        if away:
            yield "…", "", "band", ()
        side = pair.left if chosen else pair.right
        if side is None:
            yield "", "", "band", ()
        elif pair.equal:
            yield str(side.number), side.text, "", ()
        else:
            yield f"{sign} {side.number}", side.text, ground, side.marked


def _in_one(pairs: tuple[Pair, ...]) -> Iterator[_Line]:
    """The lines that only the other has before those of the chosen version, for each stretch that differs."""
    waiting: list[tuple[Side, str, str]] = []

    def flushed() -> Iterator[_Line]:
        for side, sign, ground in sorted(waiting, key=lambda one: one[1] == "+"):
            yield f"{sign} {side.number}", side.text, ground, side.marked
        waiting.clear()

    for pair, away in _jumps(pairs):
        if pair.equal or away:
            yield from flushed()
        if away:
            yield (
                "…",
                tr("{away} equal lines").format(away=number_words(away)) if away > 1 else tr("1 equal line"),
                "band",
                (),
            )
        if pair.equal and pair.left is not None:
            yield str(pair.left.number), pair.left.text, "", ()
            continue
        for side, sign, ground in ((pair.right, "−", "coral_soft"), (pair.left, "+", "kelp_soft")):
            if side is not None:
                waiting.append((side, sign, ground))
    yield from flushed()
