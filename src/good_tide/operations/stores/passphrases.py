"""Passphrases of stores: where they are kept, and wrong ones counted."""

from __future__ import annotations

import os
import shlex
from pathlib import Path

import msgspec

from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.identifiers import StoreId
from good_tide.core.settings import Job
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.records.passphrase_attempts import AttemptCounter
from good_tide.operations.records.store_memory import Noticed
from good_tide.operations.stores.opening import Store, StorePlace, keeping_here, open_at, store_id
from good_tide.operations.workplace import save_job
from good_tide.storage.header import holds_store
from good_tide.system.keyrings import KeyRing


def kept_passphrase(job: Job, store: StoreId, ring: KeyRing) -> str | None:
    """The passphrase of a job's store from its file, from the credentials that systemd gives the agent, or
    from the key ring; None where none has one.

    Raises:
        PersonError: the passphrase file cannot be read.
    """
    if job.passphrase_file:
        return passphrase_in(Path(job.passphrase_file), tr("Check the path, or change the job"))
    given = _credential(store)
    if given is not None:
        return given
    try:
        return ring.recall(store)
    except PlaceError:
        return None


def _credential(store: StoreId) -> str | None:
    """The passphrase that systemd gives a service (systemd.exec(5), ``LoadCredential=``,
    ``LoadCredentialEncrypted=``): in a file that is called ``good-tide.STORE``, or ``good-tide`` for all."""
    folder = os.environ.get("CREDENTIALS_DIRECTORY")
    for name in (f"good-tide.{store}", "good-tide") if folder else ():
        file = Path(str(folder)) / name
        if file.is_file():
            return passphrase_in(file, tr("See which credentials the service is given"))
    return None


def read_by_others(job: Job) -> Noticed | None:
    """What to say, and what to do, where others on this machine may read a job's passphrase file. It is used
    all the same: a job that stops would be the greater harm."""
    try:
        mode = os.stat(job.passphrase_file).st_mode if job.passphrase_file else 0
    except OSError:
        return None  # whoever reads it says so
    if not mode & 0o077:
        return None
    what = tr("Others on this machine may read the passphrase of {name} in {passphrase_file}").format(
        name=job.name, passphrase_file=job.passphrase_file
    )
    return Noticed(
        what, tr("Run “chmod 600 {passphrase_file}”").format(passphrase_file=shlex.quote(job.passphrase_file))
    )


def passphrase_in(file: Path, advice: str = tr("Check the path and that it is UTF-8 text")) -> str:
    """The passphrase in a file, without the line's end.

    Raises:
        PersonError: the file cannot be read.
    """
    try:
        return file.read_text(encoding="utf-8").rstrip("\r\n")
    except (OSError, UnicodeDecodeError) as error:
        raise PersonError(
            tr("The passphrase file {file} cannot be read").format(file=file), advice
        ) from error


def keep_in_file(context: Context, job: Job, file: Path, passphrase: str) -> Job:
    """Keep the passphrase of a job's stores in a file that only this person can read, named in the job.

    Raises:
        PersonError: the file is there already, or cannot be made.
    """
    file = Path(os.path.abspath(file))
    try:
        handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
    except OSError as error:
        what = tr("{file} cannot be made ({strerror})").format(
            file=file, strerror=os.strerror(error.errno or 0)
        )
        raise PersonError(what, tr("Name a new file in a folder that is yours")) from error
    with os.fdopen(handle, "w", encoding="utf-8") as target:
        target.write(passphrase + "\n")
    return save_job(context.here.settings, msgspec.structs.replace(job, passphrase_file=str(file)))


def open_counted(context: Context, where: StorePlace, passphrase: str | None) -> Store:
    """Open a store, counting wrong tries.

    Raises:
        PlaceError: too many of them lately; or as ``open_at``.
    """
    if passphrase is None or not holds_store(where):
        return keeping_here(open_at(where, passphrase), context.here.cache)
    counter = AttemptCounter(context.here.state, store_id(where), context.clock)
    opened = counter.counted(lambda: open_at(where, passphrase))
    return keeping_here(opened, context.here.cache)
