"""Errors by who can act on them. A fault in the program itself stays a plain exception."""

from __future__ import annotations

import enum
import errno

from good_tide.core.translation import tr


class GoodTideError(Exception):
    """Base of everything that is told to a person as a sentence.

    :param what: what happened, one sentence without a full stop.
    :param advice: what to do about it, one sentence without a full stop; may be empty.
    """

    def __init__(self, what: str, advice: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.advice = advice

    def __str__(self) -> str:
        return f"{self.what}. {self.advice}." if self.advice else f"{self.what}."


class PersonError(GoodTideError):
    """The request cannot be meant like that; the person can change it."""


class PlaceError(GoodTideError):
    """The store, its disk or a folder cannot be used now: away, full, read-only, locked, not permitted."""


class PlaceFullError(PlaceError):
    """The disk has no room left."""


class KeptError(PlaceError):
    """The place lets nothing be deleted by who is logged in; what was to go stays."""


class PlaceAwayError(PlaceError):
    """The place of a store cannot be reached now, whole or in any part: nothing is damaged."""


class ServerKeyError(PlaceError):
    """A server shows a key that nobody has said to be right.

    :param shown: its fingerprint.
    :param known: fingerprints of those that it showed before; empty: none.
    """

    def __init__(self, what: str, advice: str, shown: str, known: str = "") -> None:
        super().__init__(what, advice)
        self.shown, self.known = shown, known


class LoginError(PlaceError):
    """A server does not let in who asks: a password or a key is missing or wrong.

    :param of_key: the passphrase of a key is what is missing.
    """

    def __init__(self, what: str, advice: str, of_key: bool = False) -> None:
        super().__init__(what, advice)
        self.of_key = of_key


class NotInPlaceError(PlaceError):
    """A file that the store should have is not there."""


class StoreReplacedError(PlaceError):
    """Another store than the expected one is in its place, or none any more."""


class StoreTooNewError(PlaceError):
    """A newer version of this program made the store."""


class NameTakenError(PlaceError):
    """A file that must not be there yet is there."""


class WrongPassphraseError(PlaceError):
    """No slot of the store opens with what was given."""


class PassphraseNeededError(WrongPassphraseError, PersonError):
    """A store is encrypted, and no passphrase was given: the person can give one."""


class Harm(enum.StrEnum):
    """In what way a store file is damaged."""

    CHANGED = "changed"
    """Its bytes are not those that were written."""
    MISSING = "missing"
    """It is not there."""
    UNREADABLE = "unreadable"
    """The disk does not give its bytes, or does not permit it."""

    @property
    def advice(self) -> str:
        """What to do about it."""
        return _ADVICE[self]


_ADVICE = {
    Harm.CHANGED: tr("Run “good-tide repair” on this store; it mends what can be mended and names the rest"),
    Harm.MISSING: tr(
        "See whether somebody has moved or deleted it, and bring it back if so; otherwise run “good-tide"
        " repair” on this store"
    ),
    Harm.UNREADABLE: tr(
        "The disk has a bad place, or does not permit reading: check the disk, then run “good-tide repair” on"
        " this store"
    ),
}


class DamageError(GoodTideError):
    """Something read from a store is not what was written there.

    :param advice: what to do; that of ``harm`` if not given.
    :param file: the store file concerned, relative to the store; empty when not known.
    """

    def __init__(
        self, what: str, advice: str | None = None, file: str = "", harm: Harm = Harm.CHANGED
    ) -> None:
        super().__init__(what, harm.advice if advice is None and file else advice or "")
        self.file = file
        self.harm = harm


class StoppedError(GoodTideError):
    """The person stopped the work."""


def of_system(error: OSError) -> PlaceError:
    """What the operating system refused, where nothing better is known of it."""
    where = f"{error.filename}: " if isinstance(error.filename, str) else ""
    words = f"{where}{error.strerror or type(error).__name__}"
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return PlaceFullError(words, tr("Free some room on this disk"))
    return PlaceError(words, tr("Check the path, and whether you may use it"))
