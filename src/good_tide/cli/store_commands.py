"""Commands about stores: making one, asking about it, carrying snapshots over, and who may read them."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from good_tide.cli import output
from good_tide.cli.options import (
    StoreCommand,
    json_option,
    opened,
    passphrase_option,
    place_argument,
    progress_option,
    read_passphrase,
    whose_options,
)
from good_tide.cli.output import print_json, say, table
from good_tide.cli.parameters import PATH
from good_tide.core.errors import PersonError
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words
from good_tide.operations.context import this_context
from good_tide.operations.history.choosing import Chooser, Whose
from good_tide.operations.stores import readers
from good_tide.operations.stores.carrying import carry
from good_tide.operations.stores.opened import id_of
from good_tide.operations.stores.opening import (
    StorePlace,
    about,
    create_at,
    locked_hint,
    put_recovery_script,
    store_place,
)
from good_tide.operations.stores.passphrases import open_counted


@click.command("create")
@click.argument("where", metavar="DIRECTORY", type=store_place)
@passphrase_option
@click.option("--unencrypted", is_flag=True, help=tr("Anybody who has the disk can read everything."))
@click.option("--hint", default="", help=tr("A hint for the passphrase. Everybody can read it."))
@click.option(
    "--no-parity",
    is_flag=True,
    help=tr("Save 4 % of room, and do without what mends a failing disk's damage."),
)
@json_option
def create_command(
    where: StorePlace,
    passphrase_file: Path | None,
    unencrypted: bool,
    hint: str,
    no_parity: bool,
    as_json: bool,
) -> int:
    """Make a store in DIRECTORY and print its recovery key, once."""
    if unencrypted and passphrase_file is not None:
        raise PersonError(
            tr("A store is either encrypted or not"), tr("Give --passphrase-file or --unencrypted, not both")
        )
    passphrase = read_passphrase(passphrase_file)
    if passphrase is None and not unencrypted:
        if not sys.stdin.isatty():
            raise PersonError(
                tr("A passphrase is needed and there is no terminal to ask on"),
                tr("Give --passphrase-file, or --unencrypted"),
            )
        passphrase = click.prompt(
            tr("Passphrase for the new store"),
            hide_input=True,
            confirmation_prompt=tr("The same again"),
            err=True,
        )
    new = create_at(where, passphrase, hint, parity=not no_parity)
    if as_json:
        print_json(
            {
                "store": new.header.store,
                "format": new.header.format,
                "encrypted": new.header.encrypted,
                "recovery_key": new.recovery_key,
            }
        )
    elif new.recovery_key is None:
        say(
            tr(
                "Made a store in {called}. It is not encrypted: whoever has the disk can read everything"
                " in it."
            ).format(called=where.called)
        )
    else:
        say(
            tr("Made an encrypted store in {called}.\n\nRecovery key:  {recovery_key}\n").format(
                called=where.called, recovery_key=new.recovery_key
            )
        )
        say(
            tr(
                "Copy it by hand and keep it away from this disk. It opens the store if the passphrase is"
                " lost, and is not shown again."
            )
        )
    return output.DONE


@click.command("about", cls=StoreCommand)
@place_argument("where")
@passphrase_option
@json_option
def about_command(where: StorePlace, passphrase_file: Path | None, as_json: bool) -> int:
    """What can be said of a store. Needs no passphrase; what that hides is left open."""
    unlocked = passphrase_file is not None or locked_hint(where) is None
    facts = about(where, opened(this_context(), where, passphrase_file) if unlocked else None)
    machines = None if facts.machines is None else [machine.name for machine in facts.machines]
    if as_json:
        print_json(
            {
                "store": facts.store,
                "format": facts.format,
                "encrypted": facts.encrypted,
                "hint": facts.hint,
                "snapshots": facts.snapshots,
                "stored_bytes": facts.stored_bytes,
                "machines": machines,
            }
        )
        return output.DONE
    rows = [
        [tr("Store"), facts.store],
        [tr("Format"), str(facts.format)],
        [tr("Encrypted"), "yes" if facts.encrypted else tr("no: whoever has the disk can read it")],
        [tr("Hint"), facts.hint or "none"],
        [tr("Snapshots"), f"{facts.snapshots:,}"],
        [tr("Stored"), size_words(facts.stored_bytes)],
        [
            "Machines",
            tr("hidden without the passphrase")
            if machines is None
            else ", ".join(machines) or tr("none yet"),
        ],
    ]
    table(["", ""], rows)
    return output.DONE


@click.command("carry")
@place_argument("source", "FROM")
@place_argument("target", "TO")
@click.option(
    "--snapshot",
    "chosen",
    multiple=True,
    metavar="S",
    help=tr("A snapshot to carry; may be given again. All without it."),
)
@passphrase_option
@click.option(
    "--to-passphrase-file",
    type=PATH,
    metavar="F",
    help=tr("Passphrase of TO, if it is another."),
)
@whose_options
@progress_option
@json_option
def carry_command(
    source: StorePlace,
    target: StorePlace,
    chosen: tuple[str, ...],
    passphrase_file: Path | None,
    to_passphrase_file: Path | None,
    machine: str,
    job_name: str,
    progress: str | None,
    as_json: bool,
) -> int:
    """Carry snapshots from one store to another. What is there already is left; a carry that was cut off goes
    on."""
    context = this_context()
    one = opened(context, source, passphrase_file)
    other = opened(context, target, to_passphrase_file or passphrase_file)
    chooser = Chooser(context, one, Whose(machine, job_name)) if chosen else None
    wanted = [chooser.choose(name) for name in chosen] if chooser is not None else None
    with output.steered(progress, as_json) as steering:
        report = carry(one, other, wanted, context.here.state, steering)
    if as_json:
        damaged = [{"snapshot": name, "reason": reason} for name, reason in report.damaged]
        print_json(
            {
                "carried": list(report.carried),
                "already": report.already,
                "new_bytes": report.new_bytes,
                "stored_bytes": report.stored_bytes,
                "damaged": damaged,
            }
        )
    else:
        say(
            tr("{carried} carried, {already} were there already; {stored_bytes} stored.").format(
                carried=count_words(len(report.carried), "snapshot"),
                already=report.already,
                stored_bytes=size_words(report.stored_bytes),
            )
        )
        for name, reason in report.damaged:
            say(tr("Not carried: {name} ({reason})").format(name=name[:12], reason=reason))
    return output.DAMAGED if report.damaged else output.DONE


@click.command("passphrase", cls=StoreCommand)
@place_argument("where")
@passphrase_option
@click.option(
    "--new-passphrase-file",
    type=PATH,
    metavar="F",
    help=tr("File with the new passphrase, - for standard input; asked for otherwise."),
)
@click.option("--hint", default="", help=tr("A hint for the new passphrase. Everybody can read it."))
@click.option("--add", "further", is_flag=True, help=tr("Add a further passphrase; the old one stays."))
@json_option
def passphrase_command(
    where: StorePlace,
    passphrase_file: Path | None,
    new_passphrase_file: Path | None,
    hint: str,
    further: bool,
    as_json: bool,
) -> int:
    """Change the passphrase of a store. No data is rewritten; the old one no longer opens it."""
    old = read_passphrase(passphrase_file)
    if old is None:
        if not sys.stdin.isatty():
            raise PersonError(
                tr("The old passphrase is needed and there is no terminal to ask on"),
                tr("Give --passphrase-file"),
            )
        old = str(click.prompt(tr("Passphrase or recovery key now"), hide_input=True, err=True))
    context = this_context()
    store = open_counted(context, where, old)
    new = read_passphrase(new_passphrase_file, "new")
    if new is None:
        if not sys.stdin.isatty():
            raise PersonError(
                tr("A new passphrase is needed and there is no terminal to ask on"),
                tr("Give --new-passphrase-file"),
            )
        new = str(
            click.prompt(
                tr("New passphrase"), hide_input=True, confirmation_prompt=tr("The same again"), err=True
            )
        )
    if further:
        readers.add_passphrase(context, store, new, hint)
    else:
        readers.change_passphrase(context, store, old, new, hint)
    if as_json:
        print_json({"store": id_of(store), "slots": len(readers.list_slots(where))})
    else:
        say(
            tr("A further passphrase opens the store now.")
            if further
            else tr("The passphrase was changed. The old one no longer opens the store.")
        )
    return output.DONE


@click.command("slots", cls=StoreCommand)
@place_argument("where")
@passphrase_option
@click.option(
    "--add-recovery", "recovery", is_flag=True, help=tr("Make a further recovery key and print it, once.")
)
@click.option("--revoke", "number", type=int, metavar="N", help=tr("Remove the slot with this number."))
@json_option
def slots_command(
    where: StorePlace, passphrase_file: Path | None, recovery: bool, number: int | None, as_json: bool
) -> int:
    """The ways to open a store, numbered; add or revoke one."""
    key = None
    if recovery or number is not None:
        context = this_context()
        store = opened(context, where, passphrase_file)
        if number is not None:
            readers.revoke(context, store, number)
        if recovery:
            key, _ = readers.add_recovery_key(context, store)
    slots = readers.list_slots(where)
    if as_json:
        print_json(
            {
                "slots": [{"number": slot.number, "kind": slot.kind, "hint": slot.hint} for slot in slots],
                "recovery_key": key,
            }
        )
        return output.DONE
    table(
        [tr("Slot"), tr("Opens with"), tr("Hint")],
        [[str(slot.number), slot.kind, slot.hint] for slot in slots],
        right=(0,),
    )
    if key is not None:
        say("\n" + tr("Recovery key:  {key}").format(key=key))
        say(tr("Copy it by hand and keep it away from this disk. It is not shown again."))
    return output.DONE


@click.command("recovery-script")
@click.argument("target", metavar="FILE", type=PATH)
@json_option
def recovery_script_command(target: Path, as_json: bool) -> int:
    """Write the script that recovers files without Good Tide to FILE, or into a store's folder."""
    written = put_recovery_script(target)
    if as_json:
        print_json({"file": str(written)})
    else:
        say(
            tr(
                "Wrote {written}. It needs Python 3.9 or newer, with the packages cryptography and zstandard."
            ).format(written=written)
        )
    return output.DONE
