"""What can be asked of the process that reads files, and what it answers."""

from __future__ import annotations

import msgspec

from good_tide.core.comparing import Compared, Counted
from good_tide.core.previews import Preview
from good_tide.viewing.content import Content


class Show(msgspec.Struct, frozen=True, tag="show"):
    """Show a file; ``small``: in a few lines, or as a small picture."""

    content: Content
    small: bool = False


class Compare(msgspec.Struct, frozen=True, tag="compare"):
    """Show a version and what it is compared with beside each other."""

    chosen: Content
    other: Content


class Count(msgspec.Struct, frozen=True, tag="count"):
    """Count the lines that differ between two versions."""

    chosen: Content
    other: Content


class Says(msgspec.Struct, frozen=True, tag="says"):
    """Does a phrase, folded already, stand in a file?"""

    content: Content
    phrase: str


class Shown(msgspec.Struct, frozen=True, tag="shown"):
    """What is shown of a file."""

    preview: Preview


class Found(msgspec.Struct, frozen=True, tag="found"):
    """Whether the phrase stands in it; None: it has no text."""

    stands: bool | None


class Failed(msgspec.Struct, frozen=True, tag="failed"):
    """The process that read it was ended, or fell; why, in words for a person."""

    why: str


Request = Show | Compare | Count | Says
Answer = Shown | Compared | Counted | Found | Failed
