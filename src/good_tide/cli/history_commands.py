"""Commands that look back: the snapshots of a store, and what is in one."""

from __future__ import annotations

from itertools import chain, islice
from pathlib import Path
from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.options import StoreCommand, json_option, look_argument, opened_to_look, whose_options
from good_tide.cli.output import named_snapshot, path_fields, print_json_list, say, show_path, table
from good_tide.core.clock import SystemClock
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import DamageError
from good_tide.core.records import Snapshot
from good_tide.core.selection import short_length
from good_tide.core.translation import tr
from good_tide.core.words import iso, iso_all, size_words, time_words
from good_tide.operations.context import this_context
from good_tide.operations.history import browse
from good_tide.operations.history.choosing import Chooser, Whose, of_words
from good_tide.operations.stores.opened import all_snapshots, covered_folders
from good_tide.operations.stores.opening import Store


@click.command("history", cls=StoreCommand)
@look_argument
@json_option
def history_command(named: str, passphrase_file: Path | None, as_json: bool) -> int:
    """All snapshots of a store, oldest first."""
    store = opened_to_look(this_context(), named, passphrase_file)
    snapshots, damage = all_snapshots(store)
    if as_json:
        times = iso_all([one.time for one in snapshots])
        print_json_list(
            {},
            "snapshots",
            (_history_row(store, one, time) for one, time in zip(snapshots, times, strict=True)),
        )
    else:
        now, short = SystemClock().now(), short_length(one.id for one in snapshots)
        rows = (
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
        )
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
    found = iter(browse.each_content(store, chosen, where_to, deep, unread))
    first = list(islice(found, 1))  # what cannot be answered is said before anything is written
    found = chain(first, found)
    if as_json:

        def damaged() -> dict[str, Any]:
            return {"damaged": [{**path_fields(folder), "why": str(error)} for folder, error in unread]}

        entries = (_contents_row(path_there, entry) for path_there, entry in found)
        print_json_list(dict(named_snapshot(chosen)), "entries", entries, damaged)
    else:
        rows = (
            [
                entry.kind.word,
                "" if entry.kind in (Kind.FOLDER, Kind.LEFT_OUT) else size_words(entry.stat.size),
                "" if entry.kind is Kind.LEFT_OUT else iso(entry.stat.modified)[:19].replace("T", " "),
                show_path(where),
            ]
            for where, entry in found
        )
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
