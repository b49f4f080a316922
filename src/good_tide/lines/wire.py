"""What goes between this program and the process that speaks with a server: frames of MessagePack, each with
its length before it, and the bytes of a file as they are behind it."""

from __future__ import annotations

import enum
import struct
from typing import BinaryIO, ClassVar, Generic, NamedTuple, TypeVar

import msgspec

from good_tide.core.settings import LineLimit

A = TypeVar("A")
_LENGTHS = struct.Struct("<II")
_LARGEST = 1 << 31
TRIAL = ".good-tide-try-"
"""Begins the names of files by which servers are tried; one may stay where nothing can be deleted."""


TOO_LARGE = "too large"
"""What is said of a file that is larger than any that is read whole."""


class Trouble(enum.StrEnum):
    """Why a server did not do something."""

    MISSING = "missing"
    TAKEN = "taken"
    FULL = "full"
    DENIED = "denied"
    READ_ONLY = "read-only"
    AWAY = "away"
    """It cannot be reached, or does not answer."""
    LOGIN = "login"
    """It does not let in who asks."""
    LOCKED_KEY = "locked-key"
    """The key of the login has a passphrase that is not known."""
    NEW_KEY = "new-key"
    """Nobody has said yet that the key by which it shows who it is is the right one."""
    CHANGED_KEY = "changed-key"
    """It shows another key than before."""
    MORE_ASKED = "more-asked"
    """It asks for more than a password or a key: nobody is there to answer when a run begins by itself."""
    NO_FOLDER = "no-folder"
    """The folder of the address is not there."""
    LATE = "late"
    """It does not list at once what was written to it."""
    NOT_SPOKEN = "not-spoken"
    """It is no server of this kind."""
    OTHER = "other"


class Found(msgspec.Struct, frozen=True, array_like=True):
    """A file in a folder and its sub-folders: its name from there, and its length in bytes."""

    name: str
    size: int


class Thing(msgspec.Struct, frozen=True, array_like=True):
    """Something in a folder: ``kind`` is file, folder or other."""

    name: str
    kind: str


class Room(msgspec.Struct, frozen=True, array_like=True):
    """Bytes free and in all; -1: the server does not tell."""

    free: int
    total: int


class Promises(msgspec.Struct, frozen=True):
    """What a server can promise of a file that it has said to have.

    :param durable: it makes a file durable when asked.
    :param names_once: of two who make a file of one name at once, one is refused.
    :param replaces_whole: a file that is replaced is there all the time, old or new.
    :param deletes: who is logged in may delete.
    :param lists_at_once: what is written is listed from then on, and what is removed is not.
    :param round_trip: seconds that a question and its answer take.
    :param up: bytes a second that it takes; ``down``: that it gives.
    """

    durable: bool
    names_once: bool
    replaces_whole: bool
    round_trip: float = 0.0
    up: float = 0.0
    down: float = 0.0
    deletes: bool = True
    lists_at_once: bool = True


class Call(msgspec.Struct, Generic[A], frozen=True, tag=True):
    """Something asked of a server; ``answer`` is the type of what comes back."""

    answer: ClassVar[object] = None
    again: ClassVar[bool] = True
    """Whether it is tried again when the line breaks."""


class There(Call[None], frozen=True, tag=True):
    """Whether the folder of the address is there: asked once, at once."""

    again: ClassVar[bool] = False


class Make(Call[None], frozen=True, tag=True):
    """Make the folder of the address, and those above it."""


class Tree(Call[list[Found]], frozen=True, tag=True):
    """The files in a folder and its sub-folders, as far down as a store goes; none where it is not there."""

    answer: ClassVar[object] = list[Found]
    folder: str


class Things(Call[list[Thing]], frozen=True, tag=True):
    """What lies in a folder, whatever it is."""

    answer: ClassVar[object] = list[Thing]
    folder: str


class Size(Call[int], frozen=True, tag=True):
    """Length of a file."""

    answer: ClassVar[object] = int
    name: str


class Read(Call[bytes], frozen=True, tag=True):
    """Bytes of a file; ``length`` None: to its end."""

    name: str
    offset: int = 0
    length: int | None = None
    limit: int = 1 << 30


class Put(Call[None], frozen=True, tag=True):
    """Make a file whole: durable, then visible under its name. Its bytes follow the call.

    :param owner: begins the name of its temporary file.
    :param exclusive: the name must be free.
    """

    name: str
    owner: str
    exclusive: bool = False


class Remove(Call[None], frozen=True, tag=True):
    """Remove a file; nothing if it is not there."""

    name: str


class AskRoom(Call[Room], frozen=True, tag=True):
    """How much room there is."""

    answer: ClassVar[object] = Room


class Try(Call[Promises], frozen=True, tag=True):
    """Find out what the server can promise, by files of so many bytes that are removed again."""

    answer: ClassVar[object] = Promises
    again: ClassVar[bool] = False
    size: int


class Limit(Call[None], frozen=True, tag=True):
    """Move no more than so much from now on."""

    again: ClassVar[bool] = False
    limit: LineLimit


AnyCall = There | Make | Tree | Things | Size | Read | Put | Remove | AskRoom | Try | Limit


class Begin(msgspec.Struct, frozen=True):
    """What the process is told first.

    :param address: of a folder on a server, or of one on a share that is mounted (``file:``, RFC 8089).
    :param password: given by somebody who is there now; otherwise the ones that are kept are used.
    :param key_passphrase: the same of the passphrase of a key.
    :param trust: fingerprint of a server's key that somebody has said to be right.
    :param limit: how much may be moved.
    """

    address: str
    password: str | None = None
    key_passphrase: str | None = None
    trust: str = ""
    limit: LineLimit = LineLimit()


class Asked(msgspec.Struct, frozen=True):
    """A call, by a number that its answer has too.

    :param patient: whether it is tried again for a while when the line breaks.
    :param again: a process that has ended may have carried it out already.
    """

    number: int
    call: AnyCall
    patient: bool
    again: bool = False


class Answered(msgspec.Struct, frozen=True, tag=True):
    """What came of a call, as MessagePack; the bytes that were read follow as they are."""

    number: int
    value: msgspec.Raw = msgspec.Raw(b"\xc0")


class Failed(msgspec.Struct, frozen=True, tag=True):
    """A call failed. ``said``: what the server said; ``shown`` and ``known``: fingerprints of its keys;
    ``code``: the number of the system's error, of a share that is mounted."""

    number: int
    trouble: Trouble
    said: str = ""
    shown: str = ""
    known: str = ""
    code: int = 0


class Moved(msgspec.Struct, frozen=True, tag=True):
    """The process and the line are alive: bytes that the server has acknowledged so far."""

    sent: int
    received: int


Answer = Answered | Failed | Moved


class Frame(NamedTuple):
    """What came, and the bytes behind it."""

    message: bytearray
    payload: bytearray


def frame(message: msgspec.Struct, payload_size: int = 0) -> bytes:
    """A frame, behind which so many bytes follow."""
    data = msgspec.msgpack.encode(message)
    return _LENGTHS.pack(len(data), payload_size) + data


def read_frame(stream: BinaryIO) -> Frame | None:
    """The next frame; None at the end."""
    begin = _exactly(stream, _LENGTHS.size)
    if begin is None:
        return None
    length, size = _LENGTHS.unpack(begin)
    if length > _LARGEST or size > _LARGEST:
        return None
    message, payload = _exactly(stream, length), _exactly(stream, size)
    return Frame(message, payload) if message is not None and payload is not None else None


def _exactly(stream: BinaryIO, size: int) -> bytearray | None:
    """So many bytes, in memory once; None at the end."""
    found = bytearray(size)
    view, at = memoryview(found), 0
    while at < size:
        count = stream.readinto(view[at:])  # type: ignore[attr-defined]
        if not count:
            return None
        at += count
    return found
