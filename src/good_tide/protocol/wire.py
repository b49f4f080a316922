"""The envelopes on the wire: JSON-RPC 2.0 (jsonrpc.org/specification), one message a line.

Names, paths and file contents are bytes, base64 in JSON. Times are nanoseconds since 1970 UTC, sizes bytes.
"""

from __future__ import annotations

from typing import Any

import msgspec

from good_tide.protocol.contract import Call, Note
from good_tide.protocol.faults import Fault


class Request(msgspec.Struct, omit_defaults=True):
    """A call (with ``id``) or a note (without)."""

    method: str
    params: msgspec.Raw = msgspec.Raw(b"{}")
    id: int | None = None
    jsonrpc: str = "2.0"


class Reply(msgspec.Struct, omit_defaults=True):
    """The answer to the call with this ``id``."""

    id: int
    result: msgspec.Raw | None = None
    error: Fault | None = None
    jsonrpc: str = "2.0"


class Incoming(msgspec.Struct):
    """What comes to a client: a reply, or a note."""

    id: int | None = None
    result: msgspec.Raw = msgspec.Raw(b"null")
    error: Fault | None = None
    method: str = ""
    params: msgspec.Raw = msgspec.Raw(b"{}")


def raw(value: Any) -> msgspec.Raw:
    """A value as the JSON inside a message."""
    return msgspec.Raw(msgspec.json.encode(value))


def _line(message: Request | Reply) -> bytes:
    return msgspec.json.encode(message) + b"\n"


def call_line(call: Call[Any], number: int) -> bytes:
    """A call as a line; its answer carries the same number."""
    return _line(Request(call.wire_name(), raw(call), number))


def note_line(note: Note) -> bytes:
    """A note as a line."""
    return _line(Request(note.wire_name(), raw(note)))


def reply_line(reply: Reply) -> bytes:
    """A reply as a line."""
    return _line(reply)
