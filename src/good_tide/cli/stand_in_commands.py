"""Commands about stand-ins: disks, a mail server, servers for stores."""

from __future__ import annotations

import importlib.util
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

import click
import msgspec

from good_tide.cli import output
from good_tide.cli.options import json_option
from good_tide.cli.output import print_json, say, table
from good_tide.cli.parameters import PATH
from good_tide.core.errors import PersonError, PlaceError
from good_tide.core.translation import tr
from good_tide.operations.workplace import this_workplace
from good_tide.system.disk_choice import disks_for
from good_tide.system.stand_in_disks import StandIn, StandInDisks


@click.group("stand-in")
def stand_in_group() -> None:
    """Stand-in disks and servers, to try a set-up without any."""


def _rack(folder: Path | None) -> StandInDisks:
    """The rack given, or that of this person's settings, or the demo's."""
    if folder is not None:
        return StandInDisks(folder)
    here = this_workplace()
    for settings in (here.settings, here.data / "demo" / "settings"):
        disks = disks_for(settings)
        if isinstance(disks, StandInDisks):
            return disks
    raise PersonError(
        tr("There is no rack of stand-in disks"), tr("Give --rack DIR, or make the demo first: it has some")
    )


_rack_option = click.option("--rack", type=PATH, metavar="DIR", help=tr("Folder of the stand-in disks."))


@stand_in_group.command("add")
@click.argument("name")
@_rack_option
@click.option("--kind", type=click.Choice(["internal", "external", "network"]), default="external")
@click.option("--file-system", default="ext4", show_default=True)
@click.option("--capacity", type=int, default=1 << 40, show_default=True, metavar="BYTES")
@click.option("--device", default="", help=tr("The physical disk it plays to be on."))
@click.option("--read-only", is_flag=True)
@json_option
def stand_in_add(
    name: str,
    rack: Path | None,
    kind: str,
    file_system: str,
    capacity: int,
    device: str,
    read_only: bool,
    as_json: bool,
) -> int:
    """Add a disk, plugged in."""
    values = {
        "name": name,
        "kind": kind,
        "file_system": file_system,
        "capacity": capacity,
        "device": device,
        "read_only": read_only,
    }
    folder = _rack(rack).add(msgspec.convert(values, StandIn))
    if as_json:
        print_json({"name": name, "folder": str(folder)})
    else:
        say(tr("Its contents lie in {folder}").format(folder=folder))
    return output.DONE


@stand_in_group.command("list")
@_rack_option
@json_option
def stand_in_list(rack: Path | None, as_json: bool) -> int:
    """The disks of the rack."""
    disks = _rack(rack).all()
    if as_json:
        print_json({"disks": [msgspec.to_builtins(disk) for disk in disks]})
    else:
        table(
            [tr("Disk"), tr("Kind"), ""],
            [
                [disk.name, disk.kind, tr("plugged in") if disk.plugged else tr("pulled out")]
                for disk in disks
            ],
        )
    return output.DONE


@stand_in_group.command("plug")
@click.argument("name")
@_rack_option
@json_option
def stand_in_plug(name: str, rack: Path | None, as_json: bool) -> int:
    """Plug a disk in."""
    return _plug(name, rack, True, as_json)


@stand_in_group.command("pull")
@click.argument("name")
@_rack_option
@json_option
def stand_in_pull(name: str, rack: Path | None, as_json: bool) -> int:
    """Pull a disk out."""
    return _plug(name, rack, False, as_json)


def _plug(name: str, rack: Path | None, plugged: bool, as_json: bool) -> int:
    _rack(rack).plug(name, plugged)
    if as_json:
        print_json({"name": name, "plugged": plugged})
    return output.DONE


@stand_in_group.command("mail")
@click.option("--folder", type=PATH, required=True, metavar="DIR", help=tr("Where messages are kept."))
@click.option("--port", type=int, default=0, help=tr("Where it listens; a free one otherwise."))
@json_option
def stand_in_mail(folder: Path, port: int, as_json: bool) -> int:
    """A mail server that sends nothing: it keeps messages in a folder, to try out reports. Runs until it is
    ended with Ctrl-C."""
    try:
        from good_tide.system.stand_in_mail import StandInMail  # an extra, which is not always there
    except ImportError:
        raise PersonError(
            tr("The stand-in mail server needs the package aiosmtpd"),
            tr("Install good-tide with its extra stand-ins"),
        ) from None
    server = StandInMail(folder, port)
    listens = server.start()
    if as_json:
        print_json({"port": listens, "folder": str(folder)})
    else:
        say(
            tr("Listening on 127.0.0.1:{listens}; messages come into {folder}. Ctrl-C ends it.").format(
                listens=listens, folder=folder
            )
        )
        say(
            tr(
                "To use it: good-tide mail --server 127.0.0.1 --port {listens} --security none --from"
                " you@example.org"
            ).format(listens=listens)
        )
    sys.stdout.flush()
    try:
        signal.pause()
    finally:
        server.stop()
    return output.DONE


_NEEDED = {"dav": ("wsgidav", "cheroot"), "s3": ("moto", "werkzeug")}
"""Packages that a stand-in server needs besides."""


@stand_in_group.command("server")
@click.argument("kind", type=click.Choice(["sftp", "smb", "dav", "s3"]))
@click.option("--folder", type=PATH, metavar="DIR", help=tr("Where its files are kept; a new one otherwise."))
@click.option(
    "--port", type=int, default=0, metavar="N", help=tr("On this port; any that is free otherwise.")
)
@json_option
def stand_in_server(kind: str, folder: Path | None, port: int, as_json: bool) -> int:
    """A server on this machine, with a login that is thrown away, to try a store on a server. It runs until
    it is stopped."""
    missing = [name for name in _NEEDED.get(kind, ()) if importlib.util.find_spec(name) is None]
    if missing:
        raise PersonError(
            tr("The stand-in server needs {packages}").format(packages=", ".join(missing)),
            tr("Install good-tide with its extra stand-ins"),
        )
    kept = folder or Path(tempfile.mkdtemp(prefix="good-tide-server-"))
    command = [sys.executable, "-P", "-m", f"good_tide.servers.stand_ins.{kind}", str(kept), str(port)]
    with subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as server:
        assert server.stdout is not None
        first = server.stdout.readline()
        if not first:
            raise PlaceError(
                tr("The stand-in server did not begin"),
                tr("Choose another port; for smb, install Samba (the package samba)"),
            )
        facts = msgspec.json.decode(first, type=dict[str, str])
        if as_json:
            print_json({**facts, "folder": str(kept)})
        else:
            say(
                tr("A server runs on this machine. It keeps what it is given in memory, until it is stopped.")
                if kind == "s3"
                else tr("A server runs on this machine. Its files are in {folder}.").format(folder=kept)
            )
            for name, value in facts.items():
                if value:
                    say(f"    {name:<12}{value}")
            say(
                tr("Try it with “good-tide place try {address}”. Stop it with Ctrl+C.").format(
                    address=facts["address"]
                )
            )
        sys.stdout.flush()
        server.wait()
    return output.DONE
