"""Commands that show earlier versions as folders, for every program."""

from __future__ import annotations

import shlex
from pathlib import Path

import click

from good_tide.cli import output
from good_tide.cli.options import TerminalPassphrases, look_argument, told, whose_options
from good_tide.cli.output import print_json, print_json_list, say, table
from good_tide.cli.parameters import PATH, json_option
from good_tide.core.identifiers import StoreId
from good_tide.core.translation import tr
from good_tide.operations.context import this_context
from good_tide.operations.history.choosing import Chooser, Whose
from good_tide.operations.mount import mounting
from good_tide.operations.mount.mounting import IDLE_SECONDS, MountWish
from good_tide.operations.stores.by_folder import open_to_look

_MINUTE = 60


class _Remembered(TerminalPassphrases):
    """Keeps what was typed, for the process of the mount."""

    def __init__(self, file: Path | None) -> None:
        super().__init__(file, insists=True)
        self.typed: str | None = None

    def known(self, store: StoreId) -> str | None:
        self.typed = self.typed or super().known(store)
        return self.typed

    def ask(self, where: str, hint: str | None) -> str | None:
        self.typed = super().ask(where, hint)
        return self.typed


@click.command("mount")
@look_argument
@click.argument("folder", type=PATH)
@click.option(
    "--idle",
    type=click.FloatRange(0.1, 24 * 60 * 7),
    default=IDLE_SECONDS / _MINUTE,
    show_default=True,
    metavar="MINUTES",
    help=tr("Unmount when nobody has looked for so long."),
)
@whose_options
@json_option
def mount_command(
    named: str,
    passphrase_file: Path | None,
    folder: Path,
    idle: float,
    machine: str,
    job_name: str,
    as_json: bool,
) -> int:
    """Show all moments of this store as folders, for every program to read.

    FOLDER/moments holds each moment, FOLDER/files all versions of each file beside each other, FOLDER/gone
    what is no longer there.
    """
    mounting.check_possible()
    context = this_context()
    passphrases = _Remembered(passphrase_file)
    store = told(open_to_look(context, named, passphrases))
    whose = Chooser(context, store, Whose(machine, job_name)).machine()
    own = context.here.settings
    wish = MountWish(
        named, whose.id, str(folder), passphrases.typed, str(own), stays=True, idle_seconds=idle * _MINUTE
    )
    begun, process = mounting.begin(wish)
    process.returncode = 0  # it stays when this command ends
    where = str(folder.absolute())
    if as_json:
        print_json({"folder": where, "store": begun.called, "machine": whose.name})
    else:
        say(tr("The moments of {store} are in {folder}.").format(store=begun.called, folder=where))
        say(tr("End it with: good-tide unmount {folder}").format(folder=shlex.quote(where)))
    return output.DONE


@click.command("unmount")
@click.argument("folder", type=PATH)
@click.option("--force", is_flag=True, help=tr("At once, whoever has something open in it."))
@json_option
def unmount_command(folder: Path, force: bool, as_json: bool) -> int:
    """No longer show earlier versions in this folder."""
    mounting.end(folder, force)
    if as_json:
        print_json({"folder": str(folder.absolute()), "unmounted": True})
    else:
        say(tr("Earlier versions are no longer shown in {folder}.").format(folder=folder))
    return output.DONE


@click.command("mounts")
@json_option
def mounts_command(as_json: bool) -> int:
    """The folders in which earlier versions are shown."""
    found = mounting.mounted()
    if as_json:
        print_json_list(
            {},
            "mounts",
            ({"folder": one.folder, "store": one.store, "answers": one.answers} for one in found),
        )
        return output.DONE
    if not found:
        say(tr("Earlier versions are shown in no folder now."))
        return output.DONE
    table(
        [tr("Folder"), tr("Store"), tr("State")],
        [
            [
                one.folder,
                one.store,
                tr("can be read") if one.answers else tr("its process was killed: good-tide unmount"),
            ]
            for one in found
        ],
    )
    return output.DONE
