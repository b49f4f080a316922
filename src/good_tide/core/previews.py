"""What is shown of one version of a file."""

from __future__ import annotations

import enum

import msgspec


class Form(enum.StrEnum):
    """How a version can be shown."""

    TEXT = "text"
    PICTURE = "picture"
    SUMMARY = "summary"


class Preview(msgspec.Struct, frozen=True):
    """``text`` is the text or the summary, in its ``encoding``; ``picture`` the file's bytes; ``cut``: only
    the beginning."""

    form: Form
    text: str = ""
    encoding: str = ""
    picture: bytes = b""
    cut: bool = False
