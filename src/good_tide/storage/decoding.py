"""Records of a store, from bytes that somebody else may have made up."""

from __future__ import annotations

from typing import TypeVar

import msgspec

from good_tide.core.errors import DamageError
from good_tide.core.translation import tr

Value = TypeVar("Value")


def unpacked(data: bytes, kind: type[Value], file: str, what: str) -> Value:
    """A MessagePack record of a type.

    :param what: what it should be, for the error: ``a snapshot``.

    Raises:
        DamageError: it is none.
    """
    try:
        return msgspec.msgpack.decode(data, type=kind)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError) as error:
        raise DamageError(tr("{file} is not {what}").format(file=file, what=what), file=file) from error
