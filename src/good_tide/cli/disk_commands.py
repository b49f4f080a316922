"""Commands about disks."""

from __future__ import annotations

import click

from good_tide.cli import output
from good_tide.cli.options import json_option
from good_tide.cli.output import print_json, say
from good_tide.core.places import Level, Wanted, check_place
from good_tide.core.translation import tr
from good_tide.core.words import size_words
from good_tide.operations.context import this_context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.stores.disks import devices_under, known_store_ids, look_at
from good_tide.operations.workplace import load_jobs

LEVEL_SIGNS = {Level.GOOD: "good", Level.DOUBTFUL: "doubtful", Level.BAD: "bad"}


@click.command("disks")
@json_option
def disks_command(as_json: bool) -> int:
    """The disks and shares that are mounted, and what speaks for and against keeping a store on each."""
    context = this_context()
    disks, jobs = context.disks, load_jobs(context.here.settings)
    covered = [folder for job in jobs for folder in job.folders] or [home_folder()]
    wanted = Wanted(devices=devices_under(disks, covered))
    found = look_at(disks, known_store_ids(jobs, context.whereabouts))
    if as_json:
        rows = []
        for disk in found:
            checks = [
                {"level": check.level.value, "what": check.what, "way_out": check.way_out}
                for check in check_place(disk, wanted)
            ]
            rows.append(
                {
                    "id": disk.id,
                    "name": disk.name,
                    "kind": disk.kind,
                    "file_system": disk.file_system,
                    "path": disk.path,
                    "total": disk.total,
                    "free": disk.free,
                    "writable": disk.writable and not disk.read_only,
                    "store": disk.stores[0].path if disk.stores else None,
                    "checks": checks,
                }
            )
        print_json({"disks": rows})
        return output.DONE
    for disk in found:
        room = tr("{free} free of {total}").format(free=size_words(disk.free), total=size_words(disk.total))
        room = tr("not mounted") if not disk.mounted else room if disk.answers else tr("does not answer")
        say(f"{disk.name}   {disk.kind}, {disk.file_system}, {room}   {disk.path}")
        for check in check_place(disk, wanted):
            say(
                f"    {LEVEL_SIGNS[check.level]:<9}"
                f" {check.what}{'. ' + check.way_out if check.way_out else ''}."
            )
    if not found:
        say(tr("No disk is mounted that could take a store."))
    return output.DONE
