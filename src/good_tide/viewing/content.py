"""What is handed to those who read it: a file's bytes, and what they may be."""

from __future__ import annotations

import io
from typing import Protocol

import msgspec

from good_tide.core.previews import Preview

SNIFFED = 4096
"""Bytes of the beginning by which kinds of file are told apart."""


class Content(msgspec.Struct, frozen=True):
    """The first bytes of a file, of ``size`` bytes in all."""

    name: str
    size: int
    data: bytes

    @property
    def whole(self) -> bool:
        """Whether nothing is missing."""
        return len(self.data) >= self.size

    @property
    def suffix(self) -> str:
        """What stands after the last full stop of the name, in small letters."""
        return self.name.lower().rpartition(".")[2]

    def stream(self) -> io.BytesIO:
        """The bytes as a file."""
        return io.BytesIO(self.data)


class Unreadable(Exception):
    """It cannot be shown as what it seems to be; says why, in words for a person."""


class Reader(Protocol):
    """Reads one kind of file. Only ``preview`` looks into the content, and only in a process of its own."""

    limit: int
    """Bytes of a file that it wants."""

    def matches(self, name: str, head: bytes) -> bool:
        """Whether a file seems to be of this kind, by its name and its first 4,096 bytes."""

    def preview(self, content: Content) -> Preview:
        """What is shown of it.

        Raises:
            Unreadable: it is not what it seems to be. Other exceptions: it is damaged.
        """
