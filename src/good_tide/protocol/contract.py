"""What a call, an answer and a note are: the form of everything that the agent and its clients say.

A call is a value of a class of its own, which says what is asked, what kind of answer comes, and whether the
answer may take long. Clients give it to ``ask`` and get that kind of answer; the agent gives each class the
function that answers it (``Call.by``). Both are checked by the type checker from end to end. Adding a call
takes its class, the function that answers it, and whoever asks.
"""

from __future__ import annotations

import enum
import re
from collections.abc import Callable
from typing import Any, ClassVar, Generic, NamedTuple, Protocol, Self, TypeVar, get_args

import msgspec

from good_tide.core.identifiers import JobId

PROTOCOL_VERSION = 10

Answer = TypeVar("Answer")


class Topic(enum.StrEnum):
    """What a client may want to be told of by itself."""

    WORK = "work"
    HISTORY = "history"
    STANDINGS = "standings"
    DISKS = "disks"
    SURVEY = "survey"


class _Named:
    """Goes over the wire under the name of its class, in small letters with hyphens."""

    @classmethod
    def wire_name(cls) -> str:
        """The name on the wire."""
        return re.sub(r"(?<!^)(?=[A-Z])", "-", cls.__name__).lower()


class Note(_Named, msgspec.Struct, frozen=True):
    """Something that the agent tells by itself, to the clients that listen to its topic."""

    topic: ClassVar[Topic]


class Asker(Protocol):
    """The client that asks, as far as an answer may go on after it was given."""

    def tell(self, note: Note) -> None:
        """Tell it something by itself."""
        ...

    def listen(self, topics: frozenset[Topic]) -> None:
        """Tell it from now on what happens about these topics, and about no others."""
        ...


class Handler(NamedTuple):
    """Which function answers the calls of a class."""

    call: type[Call[Any]]
    answer: Callable[[Any, Asker], Any]


class Call(_Named, msgspec.Struct, Generic[Answer], frozen=True):
    """Something that a client asks, and the kind of its answer."""

    may_block: ClassVar[bool] = False
    """Whether the answer may take long: it touches disks that may hang, stretches a passphrase, or asks a
    server. Each such call is answered in a thread of its own."""

    @classmethod
    def answer_type(cls) -> type[Answer]:
        """The kind of its answer."""
        for base in cls.__orig_bases__:  # type: ignore[attr-defined]  # typing sets it on subclasses of generics
            kinds = get_args(base)
            if kinds:
                return kinds[0]  # type: ignore[no-any-return]
        raise TypeError(f"{cls.__name__} does not say what its answer is")

    @classmethod
    def by(cls, answer: Callable[[Self], Answer]) -> Handler:
        """These calls are answered by a function."""
        return Handler(cls, lambda call, asker: answer(call))

    @classmethod
    def by_asker(cls, answer: Callable[[Self, Asker], Answer]) -> Handler:
        """The same for a function that tells who asks something later on."""
        return Handler(cls, answer)


class JobCall(Call[Answer], Generic[Answer], frozen=True):
    """Something that is asked of one job."""

    job: JobId


class Listen(Call[None], frozen=True):
    """Be told from now on of these topics, and of no others."""

    topics: frozenset[Topic]
