"""Everything that people read goes through here: gettext catalogs by the language of the session, numbers and
dates by its locale. Without a catalog for it the words are English, and so are numbers and dates.

``en@long`` is no language: its words are made of the English ones, longer by a third, with accents, between
brackets. What shows on the screen without brackets was not given to translation; what does not fit would not
fit in others.
"""

from __future__ import annotations

import functools
import gettext
import os
import re
from pathlib import Path
from typing import Protocol

DOMAIN = "good-tide"
CATALOGS = Path(__file__).parent.parent / "catalogs"
LONG = "en@long"
_ACCENTED = str.maketrans("aceinouyACEINOUY", "àçéîñöûýÀÇÉÎÑÖÛÝ")
_MARKUP = re.compile(r"(\{[^{}]*\}|“[^”]*”|--[a-z-]+|&\w)")
"""What stays as it is in a made-up language: places for values, commands and options, keys."""


class Catalog(Protocol):
    """Translations of texts."""

    def gettext(self, message: str) -> str: ...

    def ngettext(self, msgid1: str, msgid2: str, n: int) -> str: ...


class LongCatalog:
    """The made-up language."""

    def gettext(self, message: str) -> str:
        if not any(sign.isalpha() for sign in message):
            return message
        parts = _MARKUP.split(message)
        letters = sum(len(part) for part in parts[::2])
        shown = "".join(part if at % 2 else part.translate(_ACCENTED) for at, part in enumerate(parts))
        return f"⟦{shown}{'·' * max(1, round(letters / 3) - 2)}⟧"

    def ngettext(self, msgid1: str, msgid2: str, n: int) -> str:
        return self.gettext(msgid1 if n == 1 else msgid2)


def _wanted() -> list[str]:
    """The languages that the session asks for, as gettext(3) has it."""
    for name in ("LANGUAGE", "LC_ALL", "LC_MESSAGES", "LANG"):
        value = os.environ.get(name)
        if value:
            return value.split(":")
    return []


@functools.cache
def _catalog() -> tuple[Catalog, str]:
    """The catalog of the session, and the locale of its language; empty for English."""
    for language in _wanted():
        if language == LONG:
            return LongCatalog(), ""
        if language.split(".")[0].split("_")[0] in ("en", "C", "POSIX"):
            break
        try:
            return gettext.translation(DOMAIN, CATALOGS, [language]), language.split(".")[0]
        except OSError:
            continue
    return gettext.NullTranslations(), ""


def tr(text: str) -> str:
    """A text in the language of the session. Values are put in after, by their names in it."""
    return _catalog()[0].gettext(text) if text else text


def noted(text: str) -> str:
    """A text that is translated where it is shown, as it is: values of enumerations that are kept or sent."""
    return text


def several(one: str, many: str, count: int) -> str:
    """The text for a count, in the plural form that the language has for it."""
    return _catalog()[0].ngettext(one, many, count)


def locale_of_words() -> str:
    """The locale by which numbers and dates are written; empty: the English that the program has itself."""
    return _catalog()[1]
