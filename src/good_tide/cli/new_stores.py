"""Stores that come to a job: made or found, and said."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Callable, Sequence
from pathlib import Path

import click
import msgspec

from good_tide.cli import output
from good_tide.cli.options import read_passphrase
from good_tide.cli.output import print_json, say
from good_tide.core.errors import PersonError, WrongPassphraseError
from good_tide.core.identifiers import StoreId
from good_tide.core.job_values import Difference
from good_tide.core.places import Level
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.schedule.standing import locked_stores
from good_tide.operations.stores.disks import store_ref
from good_tide.operations.stores.furnishing import Furnished, WantedStore, furnish
from good_tide.operations.stores.furnishing import remember as remember_passphrase
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opening import Store, store_place

_LEVEL_SIGNS = {Level.GOOD: "good", Level.DOUBTFUL: "doubtful", Level.BAD: "bad"}


NewPassphrase = Callable[[], str | None]
"""Gives the passphrase for new stores, None where there is none."""


def new_passphrase(file: Path | None) -> NewPassphrase:
    """Gives the passphrase for new stores: from a file, or asked for on a terminal, twice and once only."""
    known: list[str] = []

    def give() -> str | None:
        if not known:
            words = read_passphrase(file)
            if words is None and sys.stdin.isatty():
                words = click.prompt(
                    tr("Passphrase for the new store"),
                    hide_input=True,
                    confirmation_prompt=tr("The same again"),
                    err=True,
                )
            if words is None:
                return None
            known.append(words)
        return known[0]

    return give


def wanted_stores(context: Context, stores: tuple[str, ...], unencrypted: bool) -> list[WantedStore]:
    """Stores in further folders."""
    places = [store_place(named) for named in stores]
    return [WantedStore(store_ref(context.disks, where), where, not unencrypted) for where in places]


def furnished_job(
    context: Context, job: Job, wanted: list[WantedStore], passphrase: NewPassphrase, hint: str
) -> Furnished:
    """A job with the stores that are wanted."""

    def twin(first: StoreRef) -> Store | None:
        stores = JobStores(context, msgspec.structs.replace(job, stores=(first,)), _First(passphrase))
        try:
            return stores.store(first) if first in stores.here() else None
        except WrongPassphraseError:
            return None

    return furnish(context, job, wanted, passphrase, twin, hint)


class _First:
    """The passphrase for new stores is tried on the job's first one where nothing else is known of it."""

    def __init__(self, passphrase: NewPassphrase) -> None:
        self._passphrase = passphrase

    def known(self, store: StoreId) -> str | None:
        return None

    def ask(self, where: str, hint: str | None) -> str | None:
        return self._passphrase()

    def unreadable(self, error: PersonError) -> None:
        raise error


def say_made(
    context: Context,
    job: Job,
    furnished: Furnished,
    notes: list[str],
    remembered: NewPassphrase | None,
    as_json: bool,
    changes: Sequence[Difference] | None = None,
) -> int:
    """Say what was made.

    :param remembered: gives the passphrase that is to be kept in the key ring, None: it is not to be.
    :param changes: of a job that was there before, which settings were changed.
    """
    made, notes, locked = furnished.made, notes + furnished.notes, locked_stores(context, job)
    if remembered is not None and locked:
        words = remembered()
        notes += remember_passphrase(context, job, made, words) if words is not None else []
        locked = locked_stores(context, job)
    code = output.WITH_GAPS if remembered is not None and locked else output.DONE
    if locked and not job.rhythm.by_hand:
        todo = tr("give it with “good-tide unlock {name} --remember”, or --keep-in FILE").format(
            name=shlex.quote(job.name)
        )
        notes.append(
            tr("The passphrase is kept nowhere, and no snapshot is taken by itself: {todo}").format(todo=todo)
        )
    if as_json:
        stores = [
            {"path": one.where.called, "made": one.made, "recovery_key": one.recovery_key} for one in made
        ]
        print_json(
            {
                "job": job.name,
                "folders": list(job.folders),
                "stores": stores,
                "rules": list(job.rules),
                "notes": notes,
                **({} if changes is None else {"changes": [one._asdict() for one in changes]}),
            }
        )
        return code
    if changes is None:
        say(tr("The job {name} covers {folders}.").format(name=job.name, folders=", ".join(job.folders)))
    else:
        say(
            tr("The job {name} was changed:").format(name=job.name)
            if changes
            else tr("The job {name} is as it was.").format(name=job.name)
        )
    for change in changes or ():
        say(f"  {change.words}")
    for one in made:
        say(
            tr("{words} in {called}.").format(
                words=tr("Made a store") if one.made else tr("Uses the store"), called=one.where.called
            )
        )
        if one.recovery_key:
            say("\n" + tr("Recovery key:  {recovery_key}").format(recovery_key=one.recovery_key))
            say(tr("Copy it by hand and keep it away from this disk. It is not shown again."))
    for note in notes:
        say(tr("Note: {note}.").format(note=note))
    return code
