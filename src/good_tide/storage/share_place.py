"""Stores on shares that are mounted. Whoever touches one whose server is gone is held up without end: another
process does it (``good_tide.servers.mounted``)."""

from __future__ import annotations

import errno
import os
from pathlib import Path
from typing import Self

import msgspec

from good_tide.core.errors import DamageError, NameTakenError, PlaceAwayError, PlaceError
from good_tide.core.translation import tr
from good_tide.lines.client import Line, LineError, line_to
from good_tide.lines.mounts import on_share
from good_tide.lines.wire import TOO_LARGE, Failed, Make, There, Trouble
from good_tide.storage.place import Place, disk_errors, no_folder
from good_tide.storage.spooling_place import SpoolingPlace, asked


class SharePlace(msgspec.Struct, frozen=True):
    """A folder on a share that is mounted."""

    path: Path

    @classmethod
    def named(cls, words: str) -> Self | None:
        """The folder that a person names; None for what is on no share."""
        path = Path(os.path.abspath(words))
        return cls(path) if on_share(path) else None

    @property
    def called(self) -> str:
        return str(self.path)

    @property
    def folder(self) -> Path | None:
        return self.path

    @property
    def line(self) -> Line:
        return line_to(self.path)

    def error(self, failed: Failed, doing: str) -> PlaceError | DamageError:
        match failed.trouble:
            case Trouble.AWAY:
                return PlaceAwayError(
                    tr("{doing}: the share does not answer").format(doing=doing),
                    tr("Check the network and whether the server runs; it goes on by itself"),
                )
            case Trouble.NO_FOLDER:
                return no_folder(self.path)
            case Trouble.TAKEN:
                return NameTakenError(
                    tr("{doing}: it was made by another at the same moment").format(doing=doing),
                    tr("Use that one"),
                )
            case Trouble.OTHER if failed.said == TOO_LARGE:
                return DamageError(tr("{doing}: larger than any file that is read whole").format(doing=doing))
            case Trouble.OTHER if failed.code == errno.EIO:
                return PlaceError(
                    f"{doing}: {os.strerror(failed.code)}", tr("Ask who runs the server, then try again")
                )
        try:
            with disk_errors(doing):
                raise OSError(failed.code, "")
        except PlaceError as error:
            return error

    def check_there(self) -> None:
        asked(self, There(), tr("Looking for {address}").format(address=self.called))

    def nearest(self) -> Self:
        """The folder, or the nearest above it that is there.

        Raises:
            PlaceError: it cannot be looked for.
        """
        place = self
        while True:
            try:
                place.line.ask(There())
                return place
            except LineError as error:
                above = place.path.parent
                if error.failed.trouble is not Trouble.NO_FOLDER or above == place.path:
                    raise place.error(
                        error.failed, tr("Looking for {address}").format(address=self.called)
                    ) from error
            place.line.end()
            place = type(self)(above)

    def make(self) -> None:
        asked(self, Make(), tr("Making a store in {path}").format(path=self.called))

    def files(self, limit: int | None = None) -> Place:
        return SpoolingPlace(self)
