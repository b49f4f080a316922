"""Commands about snapshots: taking one, and looking back."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.coverage_commands import run_jobs
from good_tide.cli.options import (
    StoreCommand,
    json_option,
    look_argument,
    named_place,
    opened,
    opened_to_look,
    passphrase_option,
    progress_option,
    whose_options,
)
from good_tide.cli.output import named_snapshot, path_fields, print_json, say, show_path, table
from good_tide.cli.parameters import JOB, PATH
from good_tide.core.clock import SECOND, SystemClock
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import DamageError, PersonError
from good_tide.core.given_words import checked_label
from good_tide.core.records import Snapshot
from good_tide.core.selection import parse_time, short_length
from good_tide.core.translation import tr
from good_tide.core.words import iso, iso_all, size_words, time_words
from good_tide.operations.context import this_context
from good_tide.operations.history import browse
from good_tide.operations.history.choosing import Chooser, Whose, of_words
from good_tide.operations.snapshot.capture import capture
from good_tide.operations.snapshot.request import CaptureRequest
from good_tide.operations.stores.opened import all_snapshots, covered_folders
from good_tide.operations.stores.opening import (
    Store,
    StorePlace,
    open_catalog,
    take_into_catalog,
)

_FARTHEST_AHEAD = 86400 * SECOND


@click.command("snapshot")
@click.argument("job_name", metavar="[NAME|STORE]", required=False, type=JOB)
@click.option("--store", "where", type=named_place, hidden=True)
@passphrase_option
@click.option(
    "--folder",
    "folders",
    multiple=True,
    type=PATH,
    metavar="PATH",
    help=tr("With a store: folder to cover; may be given again."),
)
@click.option("--label", default="", help=tr("A label for the snapshot."))
@click.option(
    "--at",
    metavar="TIME",
    help=tr("With a store: the snapshot's time, to bring in dated copies; must be after the last one."),
)
@progress_option
@json_option
def snapshot_command(
    job_name: str | None,
    where: StorePlace | None,
    passphrase_file: Path | None,
    folders: tuple[Path, ...],
    label: str,
    at: str | None,
    progress: str | None,
    as_json: bool,
) -> int:
    """Take a snapshot: of the job NAME, of all jobs, or of the folders that --folder names into STORE."""
    label = checked_label(label)
    if where is None and folders and job_name is not None:
        where, job_name = named_place(job_name), None
    if where is None:
        if folders or at is not None:
            raise PersonError(
                tr("--folder and --at need a store"), tr("Name it: good-tide snapshot STORE --folder PATH")
            )
        return run_jobs(job_name, passphrase_file, label, progress, as_json)
    if job_name is not None:
        raise PersonError(
            tr("A job has its own stores"), tr("Give either the name of a job, or a store with --folder")
        )
    if not folders:
        raise PersonError(tr("No folder is named"), tr("Give --folder PATH"))
    context = this_context()
    moment = None if at is None else parse_time(at)
    if moment is not None and moment > context.clock.now() + _FARTHEST_AHEAD:
        what = tr(
            "{at} is more than a day ahead: all later snapshots would have to be dated after it"
        ).format(at=at)
        raise PersonError(what, tr("Give a time that has been, or none"))
    here, store = context.here, opened(context, where, passphrase_file)
    request = CaptureRequest(folders, here.machine, label=label, at=moment)
    catalog = open_catalog(store, here.cache)
    with output.steered(progress, as_json) as steering:
        taken = capture(
            store,
            request,
            SystemClock(),
            steering,
            here.state,
            catalog.stored_small if catalog.names() else None,
        )
        take_into_catalog(store, catalog)
    if as_json:
        print_json(output.snapshot_fields(taken))
    else:
        output.say_snapshot(taken)
    return output.WITH_GAPS if taken.gaps else output.DONE


@click.command("history", cls=StoreCommand)
@look_argument
@json_option
def history_command(named: str, passphrase_file: Path | None, as_json: bool) -> int:
    """All snapshots of a store, oldest first."""
    store = opened_to_look(this_context(), named, passphrase_file)
    snapshots, damage = all_snapshots(store)
    if as_json:
        times = iso_all([one.time for one in snapshots])
        print_json(
            {
                "snapshots": [
                    _history_row(store, one, time) for one, time in zip(snapshots, times, strict=True)
                ]
            }
        )
    else:
        now, short = SystemClock().now(), short_length(one.id for one in snapshots)
        rows = [
            [
                one.id[:short],
                time_words(one.time, now),
                one.machine.name,
                f"{one.tally.files:,}",
                size_words(one.tally.bytes),
                size_words(one.tally.new_bytes),
                tr("{gaps} gaps").format(gaps=one.gaps) if one.gaps else "",
                one.label,
            ]
            for one in snapshots
        ]
        table(
            [tr("Snapshot"), tr("Time"), tr("Machine"), tr("Files"), tr("Size"), tr("New"), "", tr("Label")],
            rows,
            right=(3, 4, 5),
        )
    for error in damage:
        output.print_error(error, as_json)
    return output.DAMAGED if damage else output.DONE


def _history_row(store: Store, one: Snapshot, time: str) -> dict[str, Any]:
    tally = one.tally
    return {
        "snapshot": one.id,
        "time": time,
        "machine": one.machine.name,
        "folders": [show_path(path) for path in covered_folders(store, one)],
        "files": tally.files,
        "bytes": tally.bytes,
        "new_bytes": tally.new_bytes,
        "label": one.label,
        "gaps": one.gaps,
    }


@click.command("contents", cls=StoreCommand)
@look_argument
@click.argument("snapshot_name", metavar="SNAPSHOT")
@click.argument("path", required=False)
@click.option("--deep", is_flag=True, help=tr("Everything below, not only the folder itself."))
@whose_options
@json_option
def contents_command(
    named: str,
    passphrase_file: Path | None,
    snapshot_name: str,
    path: str | None,
    deep: bool,
    machine: str,
    job_name: str,
    as_json: bool,
) -> int:
    """What a snapshot holds in a folder; the covered folders without PATH."""
    context = this_context()
    store = opened_to_look(context, named, passphrase_file)
    where_to = None if path is None else browse.tidy(path)
    chooser = Chooser(context, store, Whose(machine, job_name), [where_to] if where_to else ())
    chosen = chooser.choose(snapshot_name)
    unread: list[tuple[bytes, DamageError]] = []
    found = browse.contents(store, chosen, where_to, deep, unread)
    if as_json:
        entries = [_contents_row(path_there, entry) for path_there, entry in found]
        damaged = [{**path_fields(folder), "why": str(error)} for folder, error in unread]
        print_json({**named_snapshot(chosen), "entries": entries, "damaged": damaged})
    else:
        rows = [
            [
                entry.kind.word,
                "" if entry.kind in (Kind.FOLDER, Kind.LEFT_OUT) else size_words(entry.stat.size),
                "" if entry.kind is Kind.LEFT_OUT else iso(entry.stat.modified)[:19].replace("T", " "),
                show_path(where),
            ]
            for where, entry in found
        ]
        table([tr("Type"), tr("Size"), tr("Modified"), tr("Path")], rows, right=(1,))
        if chooser.several:
            say(tr("In {of_words}.").format(of_words=of_words(chosen, SystemClock().now())))
        for folder, error in unread:
            say(
                tr("Not all of {folder} can be listed: {error}").format(folder=show_path(folder), error=error)
            )
    return output.WITH_GAPS if unread else output.DONE


def _contents_row(where: bytes, entry: Entry) -> dict[str, Any]:
    target = path_fields(entry.extra.target, "target") if entry.extra.target else {"target": None}
    row = {
        "type": entry.kind.word,
        "size": entry.stat.size,
        "modified": None if entry.kind is Kind.LEFT_OUT else iso(entry.stat.modified),
        "mode": f"{entry.stat.mode:04o}",
    }
    return {**path_fields(where), **row, **target}
