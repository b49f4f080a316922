"""Which error is which code: on the wire between the agent and its clients, and as exit code of commands."""

from __future__ import annotations

import msgspec

from good_tide.core.errors import DamageError, GoodTideError, PersonError, PlaceError, StoppedError

CODES: dict[type[GoodTideError], int] = {PersonError: 2, PlaceError: 3, DamageError: 4, StoppedError: 5}
"""1 is left for what was done with something left out and named; 0 for done."""
PERSON, PLACE, DAMAGE, STOPPED = CODES.values()
FAULT_IN_PROGRAM = -32603
UNKNOWN_CALL = -32601
"""The last two as JSON-RPC 2.0 has them."""


class Fault(msgspec.Struct):
    """Why a call was not answered: ``code`` as above, what happened, and what to do about it."""

    code: int
    what: str = msgspec.field(name="message")
    advice: str = msgspec.field(name="data", default="")

    def __str__(self) -> str:
        return str(self.error())

    def error(self) -> GoodTideError:
        """The error that it stands for; one of a place where it is none that a person or a disk can cause."""
        kind = next((kind for kind, code in CODES.items() if code == self.code), PlaceError)
        return kind(self.what, self.advice)


def code_of(error: GoodTideError) -> int:
    """The code of an error."""
    return next(code for kind, code in CODES.items() if isinstance(error, kind))


def fault_of(error: GoodTideError) -> Fault:
    """An error as it goes over the wire."""
    return Fault(code_of(error), error.what, error.advice)
