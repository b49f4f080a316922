"""Stores on servers: the process that speaks with one is another one (``good_tide.servers``)."""

from __future__ import annotations

from pathlib import Path
from typing import Self

import msgspec

from good_tide.core.addresses import Address, address, looks_like_address
from good_tide.core.errors import (
    DamageError,
    LoginError,
    NameTakenError,
    NotInPlaceError,
    PlaceAwayError,
    PlaceError,
    PlaceFullError,
    ServerKeyError,
)
from good_tide.core.translation import tr
from good_tide.lines.client import Line, line_to
from good_tide.lines.wire import TOO_LARGE, Failed, Make, There, Trouble
from good_tide.storage.place import Place
from good_tide.storage.spooling_place import SpoolingPlace, asked


class ServerPlace(msgspec.Struct, frozen=True):
    """A folder on a server."""

    address: Address

    @classmethod
    def named(cls, words: str) -> Self | None:
        """The folder that an address names; None for what is no address.

        Raises:
            PersonError: an address that cannot be used.
        """
        return cls(address(words)) if looks_like_address(words) else None

    @property
    def called(self) -> str:
        return str(self.address)

    @property
    def folder(self) -> Path | None:
        return None

    @property
    def line(self) -> Line:
        return line_to(self.address)

    def error(self, failed: Failed, doing: str) -> PlaceError | DamageError:
        return place_error(failed, self.address, doing)

    def check_there(self) -> None:
        asked(self, There(), tr("Looking for {address}").format(address=self.called))

    def make(self) -> None:
        asked(self, Make(), tr("Making a store in {path}").format(path=self.called))

    def files(self, limit: int | None = None) -> Place:
        return SpoolingPlace(self)


def place_error(failed: Failed, place: Address, doing: str) -> PlaceError | DamageError:
    """What a failure on a server means for who asked."""
    host, said = place.host, failed.said
    match failed.trouble:
        case Trouble.MISSING:
            return NotInPlaceError(
                tr("{doing}: it is not there").format(doing=doing),
                tr("Check that the folder on the server holds this store"),
            )
        case Trouble.TAKEN:
            return NameTakenError(
                tr("{doing}: it was made by another at the same moment").format(doing=doing),
                tr("Use that one"),
            )
        case Trouble.FULL:
            return PlaceFullError(
                tr("{doing}: no room left on the server").format(doing=doing),
                tr("Free some room there, or use another place; what was visible is whole"),
            )
        case Trouble.DENIED:
            return PlaceError(
                tr("{doing}: the server does not permit it").format(doing=doing),
                tr("Ask who runs it whether {login} may write there").format(login=place.login),
            )
        case Trouble.READ_ONLY:
            return PlaceError(
                tr("{doing}: the server gives it to read only").format(doing=doing),
                tr("Ask who runs it whether {login} may write there").format(login=place.login),
            )
        case Trouble.LOGIN:
            return LoginError(
                tr("{host} does not let {user} in").format(host=host, user=place.user or tr("you"))
                + (f" ({said})" if said else ""),
                tr("Run “good-tide place try {address}” to give the password, or put a key there").format(
                    address=place
                )
                if place.by_key
                else tr("Run “good-tide place try {address}” to give the password").format(address=place),
            )
        case Trouble.LOCKED_KEY:
            return LoginError(
                tr("The key for {host} has a passphrase").format(host=host),
                tr("Run “good-tide place try {address}” to give it, or add the key to the agent").format(
                    address=place
                ),
                of_key=True,
            )
        case Trouble.MORE_ASKED:
            return LoginError(
                tr("{host} asks for more than a password ({said})").format(host=host, said=said),
                tr("Runs that begin by themselves cannot answer: use a key, or another login"),
            )
        case Trouble.NEW_KEY:
            return ServerKeyError(
                tr("This machine does not trust the certificate that {host} shows: {shown}").format(
                    host=host, shown=failed.shown
                )
                if place.by_certificate
                else tr("{host} is not known yet; it shows the key {shown}").format(
                    host=host, shown=failed.shown
                ),
                tr(
                    "Compare it with what who runs the server says, then run “good-tide place try"
                    " {address} --fingerprint {shown}”"
                ).format(address=place, shown=failed.shown),
                failed.shown,
            )
        case Trouble.CHANGED_KEY:
            return ServerKeyError(
                tr("{host} shows another certificate than before: {shown}, and not {known}").format(
                    host=host, shown=failed.shown, known=failed.known
                )
                if place.by_certificate
                else tr("{host} shows another key than before: {shown}, and not {known}").format(
                    host=host, shown=failed.shown, known=failed.known
                ),
                tr(
                    "Somebody may stand in between: nothing was sent. Ask who runs the server; if it has a"
                    " new key, run “good-tide place try {address} --fingerprint {shown}”"
                ).format(shown=failed.shown, address=place),
                failed.shown,
                failed.known,
            )
        case Trouble.NO_FOLDER:
            return PlaceAwayError(
                tr("There is no folder {path} on {host}").format(path=place.path, host=host),
                tr("Check the address, and whether the server has all its disks"),
            )
        case Trouble.LATE:
            return PlaceError(
                tr("{host} does not list at once what is written to it").format(host=host),
                tr("Use a bucket whose listings are never late: a store has to see what was written before"),
            )
        case Trouble.NOT_SPOKEN:
            return PlaceAwayError(
                tr("{host} does not speak {kind} on port {port}").format(
                    host=host, kind=place.kind, port=place.port
                )
                + (f" ({said})" if said else ""),
                tr("Check the address"),
            )
        case Trouble.AWAY:
            return PlaceAwayError(
                tr("{host} does not answer").format(host=host) + (f" ({said})" if said else ""),
                tr("Check the network and whether the server runs; it goes on by itself"),
            )
        case Trouble.OTHER:
            if said == TOO_LARGE:
                return DamageError(tr("{doing}: larger than any file that is read whole").format(doing=doing))
            return PlaceError(
                f"{doing}: {said or failed.trouble}", tr("Ask who runs the server, then try again")
            )
