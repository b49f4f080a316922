"""Options that several commands share, and opening a store as they say."""

from __future__ import annotations

import functools
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from good_tide.cli import output
from good_tide.cli.parameters import PATH, STORE, StoreName
from good_tide.cli.parameters import json_option as json_option
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import StoreId
from good_tide.core.settings import Job
from good_tide.core.translation import tr
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


def progress_option(command: Command) -> Command:
    """``--progress json``."""
    return click.option(
        "--progress", type=click.Choice(["json"]), help=tr("Progress as JSON lines on standard error.")
    )(command)


def named_place(named: str) -> StorePlace:
    """The place of a store by its folder, or by the name of its disk in a job."""
    return place_or_name(this_context(), named)


class StoreCommand(click.Command):
    """A command whose first argument is a store. ``--store STORE``, as it was named in earlier versions, is
    taken too."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        return super().parse_args(ctx, _store_first(args))


def _store_first(args: list[str]) -> list[str]:
    """Arguments with the store that ``--store`` names in front."""
    for number, word in enumerate(args):
        if word == "--":
            break
        if word == "--store" and number + 1 < len(args):
            return [args[number + 1], *args[:number], *args[number + 2 :]]
        if word.startswith("--store="):
            return [word.removeprefix("--store="), *args[:number], *args[number + 1 :]]
    return args


class StorePlaceName(StoreName):
    """The same, as the place where it is."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        return named_place(value) if isinstance(value, str) else value


def place_argument(name: str, metavar: str = "STORE") -> Callable[[Command], Command]:
    """An argument that names a store: its folder, or the name of its disk in a job, or of a job."""
    return click.argument(name, metavar=metavar, type=StorePlaceName())


def store_argument(command: Command) -> Command:
    """The store, as a place, with its passphrase."""
    return place_argument("where")(passphrase_option(command))


def look_argument(command: Command) -> Command:
    """The store as it was named, for commands that only read it and look into the holding area while its disk
    is away."""
    return click.argument("named", metavar="STORE", type=STORE)(passphrase_option(command))


def whose_options(command: Command) -> Command:
    """``--machine`` and ``--job``: whose snapshots are meant."""
    options = [
        click.option(
            "--machine",
            default="",
            metavar="NAME",
            help=tr("Snapshots of this machine; this one's otherwise."),
        ),
        click.option(
            "--job", "job_name", default="", metavar="NAME", help=tr("Snapshots of this job of this machine.")
        ),
    ]
    return functools.reduce(lambda done, option: option(done), reversed(options), command)


def passphrase_option(command: Command) -> Command:
    """``--passphrase-file F``."""
    return click.option(
        "--passphrase-file",
        type=PATH,
        metavar="F",
        help=tr("File with the passphrase or recovery key, - for standard input; asked for otherwise."),
    )(command)


def read_passphrase(file: Path | None, which: str = "") -> str | None:
    """The passphrase in a file, without the line's end; ``-``: the next line of standard input; None if none
    is named.

    :param which: of several passphrases, each of which has a line of its own there.

    Raises:
        PersonError: the file cannot be read, or standard input has ended.
    """
    if file is None:
        return None
    return passphrase_in(file) if str(file) != "-" else _from_input(which)


@functools.cache
def _from_input(which: str) -> str:
    """The line of standard input that has a passphrase; it is read once, however often it is needed."""
    line = sys.stdin.readline()
    if not line:
        raise PersonError(
            tr("Standard input has ended, and had no passphrase"), tr("Write it there, in one line")
        )
    return line.rstrip("\r\n")


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
        said = " " + tr("(hint: {hint})").format(hint=harmless(hint)) if hint else ""
        if sys.stdin.isatty():
            return str(
                click.prompt(
                    tr("Passphrase of the store in {where}{said}").format(where=where, said=said),
                    hide_input=True,
                    err=True,
                )
            )
        if self._insists:
            what = tr("The store is encrypted and there is no terminal to ask on")
            raise PersonError(what, tr("Give --passphrase-file"))
        return None

    def unreadable(self, error: PersonError) -> None:
        raise error


def job_stores(context: Context, job: Job, passphrase_file: Path | None) -> JobStores:
    """The ways into a job's stores: with the passphrase given, or as the job says, or asking for it."""
    return JobStores(context, job, TerminalPassphrases(passphrase_file))


def opened(context: Context, where: StorePlace, passphrase_file: Path | None) -> Store:
    """The store in a place; what is strange about it is said."""
    return told(open_place(context, where, TerminalPassphrases(passphrase_file, insists=True)))


def opened_named(context: Context, named: str, passphrase_file: Path | None) -> Store:
    """A store by its folder, or by the name of its disk in a job; what is strange about it is said."""
    return told(open_named(context, named, TerminalPassphrases(passphrase_file, insists=True)))


def opened_to_look(context: Context, named: str, passphrase_file: Path | None) -> Store:
    """A store that is only read, by its folder or by the name of its disk or of a job; while its disk is
    away, its holding area."""
    return told(open_to_look(context, named, TerminalPassphrases(passphrase_file, insists=True)))


def told(found: Opened) -> Store:
    """The store that was opened; what is strange about it is said."""
    for noticed in found.noticed:
        output.say_noticed(noticed.what, noticed.todo)
    return found.store
