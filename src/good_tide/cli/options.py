"""Options that several commands share, and opening a store as they say."""

from __future__ import annotations

import functools
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from good_tide.cli import output
from good_tide.cli.parameters import PATH
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import StoreId
from good_tide.core.settings import Job
from good_tide.core.words import harmless
from good_tide.operations.context import Context, this_context
from good_tide.operations.stores.by_folder import (
    Opened,
    open_named,
    open_place,
    open_to_look,
    place_or_name,
)
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opening import Store, StorePlace
from good_tide.operations.stores.passphrases import passphrase_in

Command = TypeVar("Command", bound=Callable[..., Any])


def json_option(command: Command) -> Command:
    """``--json``."""
    return click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")(command)


def progress_option(command: Command) -> Command:
    """``--progress json``."""
    return click.option(
        "--progress", type=click.Choice(["json"]), help="Progress as JSON lines on standard error."
    )(command)


def _place_or_name(named: str) -> StorePlace:
    """The place of a store by its folder, or by the name of its disk in a job."""
    return place_or_name(this_context(), named)


def store_option(command: Command) -> Command:
    """``--store STORE`` with its passphrase."""
    return _store_option("where", _place_or_name, "The store's folder, or the name of its disk in a job.")(
        command
    )


def look_option(command: Command) -> Command:
    """The same for commands that only read it."""
    return _store_option("named", str, "The store's folder, or the name of its disk or of a job.")(command)


def _store_option(name: str, kind: Callable[[str], object], words: str) -> Callable[[Command], Command]:
    def add(command: Command) -> Command:
        store = click.option("--store", name, required=True, type=kind, metavar="STORE", help=words)
        return store(passphrase_option(command))

    return add


def whose_options(command: Command) -> Command:
    """``--machine`` and ``--job``: whose snapshots are meant."""
    options = [
        click.option(
            "--machine", default="", metavar="NAME", help="Snapshots of this machine; this one's otherwise."
        ),
        click.option(
            "--job", "job_name", default="", metavar="NAME", help="Snapshots of this job of this machine."
        ),
    ]
    return functools.reduce(lambda done, option: option(done), reversed(options), command)


def passphrase_option(command: Command) -> Command:
    """``--passphrase-file F``."""
    return click.option(
        "--passphrase-file",
        type=PATH,
        metavar="F",
        help="File with the passphrase or recovery key; asked for otherwise.",
    )(command)


def read_passphrase(file: Path | None) -> str | None:
    """The passphrase in a file, without the line's end; None if none is named.

    Raises:
        PersonError: the file cannot be read.
    """
    return None if file is None else passphrase_in(file)


class TerminalPassphrases:
    """The passphrase in a file that was named; without one it is asked for on the terminal.

    :param insists: without a terminal it is an error; otherwise the store is tried without.
    """

    def __init__(self, file: Path | None, insists: bool = False) -> None:
        self._given, self._insists = read_passphrase(file), insists

    def known(self, store: StoreId) -> str | None:
        return self._given

    def ask(self, where: str, hint: str | None) -> str | None:
        """Ask for it.

        Raises:
            PersonError: there is no terminal.
        """
        said = f" (hint: {harmless(hint)})" if hint else ""
        if sys.stdin.isatty():
            return str(click.prompt(f"Passphrase of the store in {where}{said}", hide_input=True, err=True))
        if self._insists:
            what = "The store is encrypted and there is no terminal to ask on"
            raise PersonError(what, "Give --passphrase-file")
        return None

    def unreadable(self, error: PersonError) -> None:
        raise error


def job_stores(context: Context, job: Job, passphrase_file: Path | None) -> JobStores:
    """The ways into a job's stores: with the passphrase given, or as the job says, or asking for it."""
    return JobStores(context, job, TerminalPassphrases(passphrase_file))


def opened(context: Context, where: StorePlace, passphrase_file: Path | None) -> Store:
    """The store in a place; what is strange about it is said."""
    return _told(open_place(context, where, TerminalPassphrases(passphrase_file, insists=True)))


def opened_named(context: Context, named: str, passphrase_file: Path | None) -> Store:
    """A store by its folder, or by the name of its disk in a job; what is strange about it is said."""
    return _told(open_named(context, named, TerminalPassphrases(passphrase_file, insists=True)))


def opened_to_look(context: Context, named: str, passphrase_file: Path | None) -> Store:
    """A store that is only read, by its folder or by the name of its disk or of a job; while its disk is
    away, its holding area."""
    return _told(open_to_look(context, named, TerminalPassphrases(passphrase_file, insists=True)))


def _told(found: Opened) -> Store:
    for noticed in found.noticed:
        output.say_noticed(noticed.what, noticed.todo)
    return found.store
