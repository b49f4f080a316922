"""Which snapshot of a store a person means: of this machine and job unless they say otherwise, and never
another one silently."""

from __future__ import annotations

import os
from collections.abc import Sequence

import msgspec

from good_tide.core.errors import DamageError, PersonError
from good_tide.core.records import Machine, Snapshot
from good_tide.core.selection import by_start, last_in, parse_period
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.core.words import harmless, time_words
from good_tide.operations.context import Context
from good_tide.operations.stores.opening import Store, known_snapshot
from good_tide.operations.stores.users import users_of
from good_tide.operations.workplace import find_job
from good_tide.storage.summaries import known_snapshots

_NAME_SHOWN = 12


class Whose(msgspec.Struct, frozen=True):
    """Whose history is meant: by the name or id of a machine, or by a job of this one; empty: this machine's,
    as far as that is clear."""

    machine: str = ""
    job: str = ""

    @property
    def said(self) -> bool:
        """Whether it was said."""
        return bool(self.machine or self.job)


class Chooser:
    """The snapshots of a store, and how they are named.

    :param paths: absolute paths that are asked about: where jobs of this machine share a store, the one that
        covers them is meant.
    """

    def __init__(self, context: Context, store: Store, whose: Whose, paths: Sequence[bytes] = ()) -> None:
        self.snapshots, self.damage = known_snapshots(store)
        self._context, self._here = context, context.here
        self._store, self._whose, self._paths = store, whose, paths
        self._machines = {one.machine.id: one.machine for one in self.snapshots}

    @property
    def several(self) -> bool:
        """Whether the store holds more than one history, so that it is worth saying whose something is."""
        return len(self._machines) > 1

    def machine(self) -> Machine:
        """Whose history is meant.

        Raises:
            PersonError: that is not clear; what there is is named.
        """
        if self._whose.job:
            return find_job(self._here.settings, self._whose.job).machine or self._here.machine
        if self._whose.machine:
            return self._named(self._whose.machine)
        if not self._machines:
            raise PersonError(tr("There is no snapshot in this store yet"), tr("Take one first"))
        own = self._own()
        if len(own) == 1:
            return next(iter(own.values()))
        if own:
            raise PersonError(
                tr("Several jobs of this machine have snapshots in this store"),
                tr("Say which with --job: {own}").format(own=", ".join(job for job in own)),
            )
        if len(self._machines) == 1:
            return next(iter(self._machines.values()))
        names = ", ".join(sorted(harmless(machine.name) for machine in self._machines.values()))
        raise PersonError(
            tr("This store holds no snapshots of this machine, but of others"),
            tr("Say whose are meant with --machine: {names}").format(names=names),
        )

    def _own(self) -> dict[str, Machine]:
        """The histories of this machine in the store, by the names of their jobs."""
        jobs = self._jobs()
        found = {job.name: job.machine or self._here.machine for job in jobs} or {"": self._here.machine}
        there = {name: machine for name, machine in found.items() if machine.id in self._machines}
        if len({machine.id for machine in there.values()}) == 1:
            return dict(list(there.items())[:1])
        covering = {
            job.name for job in jobs if self._paths and all(_covers(job, path) for path in self._paths)
        }
        return {name: machine for name, machine in there.items() if name in covering} or there

    def _jobs(self) -> list[Job]:
        """The jobs of this machine that use the store."""
        return [job for job, _ in users_of(self._context, self._store)]

    def _named(self, wanted: str) -> Machine:
        fits = {
            key: one
            for key, one in self._machines.items()
            if one.name.casefold() == wanted.casefold() or key.startswith(wanted.lower())
        }
        if len(fits) == 1:
            return next(iter(fits.values()))
        there = ", ".join(
            f"{harmless(one.name)} ({key[:_NAME_SHOWN]})" for key, one in (fits or self._machines).items()
        )
        raise PersonError(
            (
                tr("{fits} machines are called {wanted}").format(fits=len(fits), wanted=wanted)
                if fits
                else tr("No machine called {wanted} has snapshots in this store").format(wanted=wanted)
            ),
            tr("There are {there}").format(there=there),
        )

    def own(self) -> list[Snapshot]:
        """The snapshots of the history that is meant, oldest first."""
        machine = self.machine().id
        return [one for one in self.snapshots if one.machine.id == machine]

    def choose(self, wanted: str) -> Snapshot:
        """The snapshot named by an id, a start of one, ``latest``, or a time: the last of its history until
        the end of the second, minute or day that is named. An id names a snapshot of any machine, unless one
        was said.

        Raises:
            PersonError: none or several fit, or it is not clear whose is meant. DamageError: the one that is
                meant, or may be, is damaged.
        """
        found = by_start(self.own() if self._whose.said else self.snapshots, wanted)
        if found is not None:
            return found
        end = None if wanted == "latest" else _end_of(wanted)
        own = self.own()
        if not own:
            raise PersonError(
                tr("There is no snapshot of {name} in this store yet").format(
                    name=harmless(self.machine().name)
                ),
                tr("See its history for what there is"),
            )
        chosen = last_in(own, wanted, end)
        self._check_damage(chosen, end)
        return chosen

    def _check_damage(self, chosen: Snapshot, end: int | None) -> None:
        """Refuse to take the one before where the one that is meant is damaged."""
        now_words = tr("Name another one by its id, such as {id} of {time}").format(
            id=chosen.id[:_NAME_SHOWN], time=time_words(chosen.time, chosen.time)
        )
        for error in self.damage:
            name = error.file.rpartition("/")[2]
            known = known_snapshot(self._here.cache, self._store.header.store, name)
            if known is None:
                raise DamageError(
                    tr("The snapshot {name} is damaged, and may be the one that is meant").format(
                        name=name[:_NAME_SHOWN]
                    ),
                    now_words,
                    error.file,
                )
            machine, time = known
            if machine == chosen.machine.id and time > chosen.time and (end is None or time < end):
                raise DamageError(
                    tr("The snapshot {name} of {time}, which is meant, is damaged").format(
                        name=name[:_NAME_SHOWN], time=time_words(time, time)
                    ),
                    now_words,
                    error.file,
                )

    def in_place(self, chosen: Snapshot) -> None:
        """Refuse to put a snapshot of another history back in place, unless somebody said that it is meant.

        Raises:
            PersonError: it is of another, or it is not clear whose is this machine's.
        """
        if not self._whose.said and self.machine().id != chosen.machine.id:
            name = harmless(chosen.machine.name)
            raise PersonError(
                tr("The snapshot {id} is of {name}, not of this machine").format(
                    id=chosen.id[:_NAME_SHOWN], name=name
                ),
                tr(
                    "Give --machine “{name}” if it is to go where things were here, or --into a folder"
                ).format(name=name),
            )


def _end_of(wanted: str) -> int:
    try:
        return parse_period(wanted)[1]
    except PersonError:
        raise PersonError(
            tr("No snapshot is called {wanted}").format(wanted=harmless(wanted)),
            tr('Give the start of its name (at least four characters), a time, or "latest"'),
        ) from None


def _covers(job: Job, path: bytes) -> bool:
    text = os.fsdecode(path)
    return any(text == folder or text.startswith(folder.rstrip("/") + "/") for folder in job.folders)


def of_words(snapshot: Snapshot, now: int) -> str:
    """Which snapshot it is and whose, in words."""
    record = snapshot.record
    return tr("the snapshot of {time} ({id}) of {name}").format(
        time=time_words(record.time, now, seconds=True),
        id=snapshot.id[:_NAME_SHOWN],
        name=record.machine.name,
    )
