"""What somebody types to find a name: parts of names in any order, wildcards, parts of paths; without regard
to capitals and accents."""

from __future__ import annotations

import functools
import os
import re
import unicodedata

import msgspec

from good_tide.core.kinds import KINDS, ending

_WILD = re.compile(r"[*?]")
_MANY = 1 << 62


def folded(text: str) -> str:
    """Text without capitals and accents: what differs only in these is the same. By Unicode's compatibility
    decomposition and full case folding (Unicode Standard, 3.13 and UAX #15)."""
    if text.isascii():
        return text.lower()
    parts = unicodedata.normalize("NFKD", text.casefold())
    return "".join(one for one in parts if not unicodedata.combining(one)).casefold()


def folded_name(name: bytes) -> bytes:
    """The same for a name as the disk has it; bytes that are no UTF-8 stay what they are."""
    if name.isascii():
        return name.lower()
    return folded(os.fsdecode(name)).encode("utf-8", "surrogateescape")


class Word(msgspec.Struct, frozen=True):
    """One word of a query, folded.

    :param text: as it was typed.
    :param in_path: it has a slash: a part of the whole path is meant.
    :param wild: it has ``*`` or ``?``: the whole name is meant, or with a slash the end of the path.
    """

    text: bytes
    in_path: bool = False
    wild: bool = False

    @property
    def anchor(self) -> bytes:
        """The longest stretch that is in every name that the word finds; may be empty."""
        last = self.text.rpartition(b"/")[2] if self.in_path else self.text
        return max(re.split(rb"[*?]", last), key=len)

    def in_name(self, name: bytes) -> bool:
        """Whether a folded name has the word. One with a slash is never in a name."""
        if self.in_path:
            return False
        return bool(self._pattern().fullmatch(name)) if self.wild else self.text in name

    def in_whole(self, path: bytes) -> bool:
        """Whether a folded path has it."""
        if not self.wild:
            return self.text in path
        if self.in_path:
            return bool(self._pattern().search(path))
        return any(self._pattern().fullmatch(part) for part in path.split(b"/"))

    def _pattern(self) -> re.Pattern[bytes]:
        return _pattern(self.text, self.in_path)


@functools.lru_cache(64)
def _pattern(text: bytes, in_path: bool) -> re.Pattern[bytes]:
    """Of a word with wildcards: of a whole name, or of what a path ends with or has before a slash."""
    inside = re.escape(text).replace(rb"\*", rb"[^/]*").replace(rb"\?", rb"[^/]")
    return re.compile(inside + (rb"(?=/|\Z)" if in_path else b""), re.DOTALL)


class NameQuery(msgspec.Struct, frozen=True):
    """What is looked for. Times in nanoseconds since 1970 UTC, sizes in bytes.

    :param gone: only what is not there now.
    :param kind: only files of this kind (``core.kinds``), or ``folders``; empty: everything.
    :param changed: only what appeared, changed or went from the first of these moments to the second.
    :param larger: only files of which a version was at least so large.
    """

    words: tuple[Word, ...]
    gone: bool = False
    kind: str = ""
    changed: tuple[int, int] = (0, _MANY)
    larger: int = 0

    @property
    def narrowed(self) -> bool:
        """Whether more is asked than words."""
        return msgspec.structs.replace(self, words=()) != NameQuery(())

    def of_kind(self, name: bytes, is_folder: bool) -> bool:
        """Whether a name is of the kind that is asked for."""
        if not self.kind:
            return True
        if self.kind == FOLDERS:
            return is_folder
        return not is_folder and KINDS[self.kind].catches(os.fsdecode(name))

    def rank(self, name: bytes) -> int:
        """How well a folded name fits, the best first: the name itself, its beginning, the beginning of a
        word in it, anywhere."""
        plain = [word.text for word in self.words if not word.wild and not word.in_path]
        first = next((text for text in plain if text in name), None)
        if first is None:
            return 2
        stem = name[: len(name) - len(ending(os.fsdecode(name))) - 1] if b"." in name else name
        if first in (name, stem):
            return 0
        if name.startswith(first):
            return 1
        at = name.find(first)
        return 2 if not name[at - 1 : at].isalnum() else 3


FOLDERS = "folders"


def parse_query(typed: str) -> tuple[Word, ...]:
    """The words of what was typed; quotes hold a phrase together. A slash at the end means nothing."""
    found = []
    for quoted, plain in re.findall(r'"([^"]*)"?|([^\s"]+)', typed):
        text = folded_name(os.fsencode(quoted or plain)).rstrip(b"/")
        if text.strip(b"*? "):
            wild = bool(_WILD.search(os.fsdecode(text))) and not quoted
            found.append(Word(text, b"/" in text, wild))
    return tuple(dict.fromkeys(found))


def nearness(one: bytes, other: bytes) -> float:
    """How near two folded names are, 0 to 1: the share of their pairs of letters that both have (Dice's
    coefficient of bigrams, 1945)."""
    first, second = _pairs(one), _pairs(other)
    return 2 * len(first & second) / max(1, len(first) + len(second))


def _pairs(text: bytes) -> set[bytes]:
    return {text[at : at + 2] for at in range(len(text) - 1)} or {text}
