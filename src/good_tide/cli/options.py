"""Options that several commands share, and opening a store as they say."""

from __future__ import annotations

import functools
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from good_tide.cli import output
from good_tide.core.clock import SystemClock
from good_tide.core.errors import PersonError
from good_tide.core.words import harmless
from good_tide.operations.jobs.making import open_counted
from good_tide.operations.records.journal import Journal
from good_tide.operations.records.store_memory import StoreMemory
from good_tide.operations.stores.opening import Store, locked_hint, open_at
from good_tide.operations.stores.pinning import check_header, check_keys, known_ref
from good_tide.operations.workplace import this_workplace

Command = TypeVar("Command", bound=Callable[..., Any])


def json_option(command: Command) -> Command:
    """``--json``."""
    return click.option("--json", "as_json", is_flag=True, help="Print one JSON object.")(command)


def progress_option(command: Command) -> Command:
    """``--progress json``."""
    return click.option(
        "--progress", type=click.Choice(["json"]), help="Progress as JSON lines on standard error."
    )(command)


def store_option(command: Command) -> Command:
    """``--store DIR`` with its passphrase."""
    options = [
        click.option(
            "--store",
            "store_folder",
            required=True,
            type=click.Path(path_type=Path),
            metavar="DIR",
            help="The store's folder.",
        ),
        passphrase_option,
    ]
    return functools.reduce(lambda done, option: option(done), reversed(options), command)


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
        type=click.Path(path_type=Path),
        metavar="F",
        help="File with the passphrase or recovery key; asked for otherwise.",
    )(command)


def read_passphrase(file: Path | None) -> str | None:
    """The passphrase in a file, without the line's end.

    Raises:
        PersonError: the file cannot be read.
    """
    if file is None:
        return None
    try:
        return file.read_text(encoding="utf-8").rstrip("\r\n")
    except (OSError, UnicodeDecodeError) as error:
        raise PersonError(
            f"The passphrase file {file} cannot be read", "Check the path and that it is UTF-8 text"
        ) from error


def open_from_terminal(folder: Path, passphrase_file: Path | None) -> Store:
    """Open a store; asks for the passphrase on a terminal when none is given. One that a job of this machine
    knows must be the one it knows."""
    here, passphrase = this_workplace(), read_passphrase(passphrase_file)
    ref = known_ref(here, folder) if os.path.isdir(folder) else None
    if ref is not None:
        check_header(ref, folder)
    hint = locked_hint(folder) if passphrase is None and os.path.isdir(folder) else None
    if hint is not None:
        if not sys.stdin.isatty():
            raise PersonError(
                "The store is encrypted and there is no terminal to ask on", "Give --passphrase-file"
            )
        passphrase = click.prompt(
            f"Passphrase{f' (hint: {harmless(hint)})' if hint else ''}", hide_input=True, err=True
        )
    if passphrase is None or not os.path.isdir(folder):
        opened = open_at(folder, passphrase)
    else:
        opened = open_counted(folder, passphrase, here.state, SystemClock())
    if ref is not None:
        check_keys(ref, opened)
    for noticed in StoreMemory(here.state, opened.header.store).look(opened):
        output.say_noticed(noticed.what, noticed.todo)
        Journal(here.records, SystemClock()).add("trouble", "", noticed.what, (), "", noticed.todo)
    return opened
