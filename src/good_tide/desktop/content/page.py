"""What every page that shows content can do."""

from __future__ import annotations

import enum

from PySide6.QtWidgets import QWidget

from good_tide.core.translation import noted


class Arrangement(enum.Enum):
    """How two versions are shown together."""

    BESIDE = noted("Beside each other")
    ONE = noted("In one column")
    FADED = noted("Faded over")
    DIFFERENCE = noted("What differs")


class Page(QWidget):
    """Shows content of one kind."""

    arrangements: tuple[Arrangement, ...] = ()
    """In which ways it can show two versions together; none: in its own only."""

    def arrange(self, arrangement: Arrangement) -> None:
        """Show two versions in another way."""

    def mark_words(self, words: str) -> int:
        """Mark where words stand, without regard to capitals; returns how often. Nothing any more for
        none."""
        return 0

    def go_to_word(self, backward: bool = False) -> None:
        """Go to the next place where they stand."""
