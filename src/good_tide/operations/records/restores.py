"""What is remembered of restores: those that are done, with what they set aside, and those that were cut
off."""

from __future__ import annotations

import os
import secrets
from collections.abc import Iterator
from pathlib import Path

import msgspec

from good_tide.core.identifiers import JobId, StoreId
from good_tide.core.restoring import RestoreNote, RestoreRequest, RestoreState
from good_tide.core.translation import tr
from good_tide.operations.records.kept_file import KeptFile
from good_tide.system.processes import began, this_process

_FILE = "restores.json"
_KEPT = 200
"""So many restores are remembered; older ones only while they have things set aside."""


class _Restores(msgspec.Struct):
    notes: list[RestoreNote] = []


class RestoreNotes:
    """The restores of this machine, under some settings.

    :param records: the folder of the settings' records.
    """

    def __init__(self, records: Path) -> None:
        self._file = KeptFile(records / _FILE, _Restores)

    def all(self) -> list[RestoreNote]:
        """All that is remembered, newest first. One whose process has ended before it did was cut off."""
        return [_as_it_is(note) for note in reversed(self._file.read().notes)]

    def find(self, identity: str) -> RestoreNote | None:
        """One restore by its identity, or by the beginning of it where only one begins so."""
        found = [note for note in self.all() if identity and note.id.startswith(identity)]
        return found[0] if len(found) == 1 else None

    def begin(self, job: JobId, store: StoreId, place: str, request: RestoreRequest, now: int) -> str:
        """A restore begins. Its identity."""
        identity = secrets.token_hex(6)
        note = RestoreNote(identity, job, store, place, now, request, carried_by=this_process())
        with self._file.changing() as kept:
            kept.notes.append(note)
            old = [one for one in kept.notes[:-_KEPT] if any(map(os.path.isdir, one.folders))]
            kept.notes[:-_KEPT] = old
        return identity

    def go_on(self, identity: str) -> None:
        """A restore that was cut off goes on in this process."""
        self.change(identity, state=RestoreState.RUNNING, carried_by=this_process(), why="")

    def folder(self, identity: str, folder: str, target: str) -> None:
        """A restore has a folder by which it is undone."""
        for note in self._noted(identity):
            folders = tuple(dict.fromkeys((*note.folders, folder)))
            targets = tuple(dict.fromkeys((*note.targets, target)))
            self.change(identity, folders=folders, targets=targets)

    def change(self, identity: str, **more: object) -> None:
        """Something became of a restore."""
        with self._file.changing() as kept:
            kept.notes = [
                msgspec.structs.replace(note, **more) if note.id == identity else note for note in kept.notes
            ]

    def cut_off(self) -> list[RestoreNote]:
        """Restores that were cut off since somebody last asked so; from now on they are kept as that."""
        with self._file.changing() as kept:
            now = [_as_it_is(note) for note in kept.notes]
            found = [new for new, old in zip(now, kept.notes, strict=True) if new.state is not old.state]
            kept.notes = now
        return found

    def _noted(self, identity: str) -> Iterator[RestoreNote]:
        return (note for note in list(self._file.read().notes) if note.id == identity)


def _as_it_is(note: RestoreNote) -> RestoreNote:
    if note.state is not RestoreState.RUNNING or (
        note.carried_by and began(note.carried_by[0]) == note.carried_by[1]
    ):
        return note
    why = tr("The program was ended, or the machine went off")
    return msgspec.structs.replace(note, state=RestoreState.CUT_OFF, why=why)
