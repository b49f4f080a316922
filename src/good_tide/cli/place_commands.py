"""Commands about folders on servers."""

from __future__ import annotations

import sys
from pathlib import Path

import click
import msgspec

from good_tide.cli import output
from good_tide.cli.disk_commands import LEVEL_SIGNS
from good_tide.cli.options import json_option, read_passphrase
from good_tide.cli.output import print_json, say
from good_tide.cli.parameters import PATH
from good_tide.core.addresses import Address, address
from good_tide.core.places import Level, ServerNeed, Wanted, worst
from good_tide.core.translation import tr
from good_tide.core.words import harmless
from good_tide.operations.context import Context, this_context
from good_tide.operations.places.servers import Given, Tried, give, keep_given, try_server
from good_tide.operations.stores.disks import known_store_ids
from good_tide.operations.workplace import load_jobs
from good_tide.system.logins import Keeping, forget_login


@click.group("place")
def place_group() -> None:
    """Folders on servers as places for stores, by addresses such as sftp://user@host/folder, smb://…,
    davs://… and s3://…."""


@place_group.command("try")
@click.argument("named", metavar="ADDRESS")
@click.option(
    "--fingerprint",
    default="",
    metavar="F",
    help=tr("The server's key or certificate, which you know to be right."),
)
@click.option(
    "--password-file",
    type=PATH,
    metavar="F",
    help=tr("File with the password, - for standard input; asked for otherwise."),
)
@click.option(
    "--keep",
    type=click.Choice(["ring", "file", "no"]),
    help=tr("Where the password is kept: in the key ring, or in a file that only you can read."),
)
@json_option
def place_try(
    named: str, fingerprint: str, password_file: Path | None, keep: Keeping | None, as_json: bool
) -> int:
    """Log in and try what the server has, can promise, and how fast the line is; nothing stays there."""
    place, context = address(named, whole=True), this_context()
    given = Given(read_passphrase(password_file, tr("password")), fingerprint=fingerprint)
    tried, given = _tried(context, place, given, not as_json and sys.stdin.isatty())
    bad = worst(list(tried.checks)) is Level.BAD
    if not bad:
        keep_given(context.here.settings, context.ring, place, given, keep or _asked_keeping(given, as_json))
    if as_json:
        print_json(_facts(place, tried))
        return output.NOT_USABLE if bad else output.DONE
    for check in tried.checks:
        way_out = f". {check.way_out}" if check.way_out else ""
        say(f"{LEVEL_SIGNS[check.level]:<9} {check.what}{way_out}.")
    for part in tried.parts:
        say(f"          {place.inside(part)}")
    if tried.disk.answer_seconds:
        ms, down = 1000 * tried.disk.answer_seconds, tried.down / 1e6
        say(tr("It answers in {ms:.0f} ms, and gives {down:.0f} MB a second.").format(ms=ms, down=down))
    return output.NOT_USABLE if bad else output.DONE


def _tried(context: Context, place: Address, given: Given, asks: bool) -> tuple[Tried, Given]:
    """Try a server, and ask for what it needs while somebody is there to answer."""
    known = known_store_ids(load_jobs(context.here.settings), context.whereabouts)
    while True:
        if given != Given():
            give(place, given)
        tried = try_server(place, Wanted(), known, True)
        more = _asked(place, tried, given) if asks else None
        if more is None:
            return tried, given
        given = more


def _asked(place: Address, tried: Tried, given: Given) -> Given | None:
    """What somebody gives to a server that needs it; None: nothing."""
    if tried.need is ServerNeed.KEY and not given.fingerprint:
        words = (
            tr("This machine does not trust the certificate that {host} shows: {shown}.").format(
                host=place.host, shown=tried.shown
            )
            if place.by_certificate
            else tr("{host} is not known yet. It shows the key {shown}.").format(
                host=place.host, shown=tried.shown
            )
        )
        click.echo(harmless(words), err=True)
        if click.confirm(tr("Is it the right one, as who runs the server says?"), err=True):
            return msgspec.structs.replace(given, fingerprint=tried.shown)
    if tried.need is ServerNeed.PASSWORD:
        words = tr("Password of {login} (nothing: give up)").format(login=place.login)
        password = click.prompt(words, hide_input=True, default="", show_default=False, err=True)
        return msgspec.structs.replace(given, password=password) if password else None
    if tried.need is ServerNeed.KEY_PASSPHRASE:
        words = tr("Passphrase of the key (nothing: give up)")
        passphrase = click.prompt(words, hide_input=True, default="", show_default=False, err=True)
        return msgspec.structs.replace(given, key_passphrase=passphrase) if passphrase else None
    return None


def _asked_keeping(given: Given, as_json: bool) -> Keeping:
    if (given.password is None and given.key_passphrase is None) or as_json or not sys.stdin.isatty():
        return "no"
    words = tr("Keep it for runs that begin by themselves? ring, file or no")
    return click.prompt(words, type=click.Choice(["ring", "file", "no"]), default="ring", err=True)


def _facts(place: Address, tried: Tried) -> dict[str, object]:
    disk = tried.disk
    return {
        "address": str(place),
        "answers": disk.answers,
        "need": tried.need.value or None,
        "shown_key": tried.shown or None,
        "store": tried.holds,
        "free": disk.free,
        "total": disk.total,
        "round_trip": disk.answer_seconds,
        "bytes_up": tried.up,
        "bytes_down": tried.down,
        "parts": [str(place.inside(part)) for part in tried.parts],
        "checks": [
            {"level": check.level.value, "what": check.what, "way_out": check.way_out}
            for check in tried.checks
        ],
    }


@place_group.command("forget")
@click.argument("named", metavar="ADDRESS")
@json_option
def place_forget(named: str, as_json: bool) -> int:
    """Forget the password that is kept for a server."""
    place, context = address(named), this_context()
    forget_login(context.here.settings, context.ring, place.server)
    if as_json:
        print_json({"server": place.server})
    else:
        say(tr("Nothing is kept of the login {server} any more.").format(server=place.server))
    return output.DONE
