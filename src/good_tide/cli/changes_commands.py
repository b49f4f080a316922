"""All that changed in a stretch of time."""

from __future__ import annotations

import csv
import io
import sys
from collections.abc import Iterable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.options import StoreCommand, json_option, look_argument, opened_to_look, whose_options
from good_tide.cli.output import path_fields, print_json_list, say, show_path, table
from good_tide.cli.reading_history import caught_up
from good_tide.core.entries import Kind
from good_tide.core.name_query import NameQuery
from good_tide.core.selection import parse_period
from good_tide.core.translation import tr
from good_tide.core.words import count_words, iso, size_words, time_words
from good_tide.operations.context import this_context
from good_tide.operations.history import browse
from good_tide.operations.history.changes import Became, Change, changes
from good_tide.operations.history.choosing import Chooser, Whose
from good_tide.operations.restore.archive import STANDARD_OUTPUT, new_file

_COLUMNS = (
    "time",
    "snapshot",
    "change",
    "path",
    "path_before",
    "type",
    "size_before",
    "size_after",
    "modified",
)


def stretch(since: str | None, until: str | None) -> tuple[int, int]:
    """A stretch of time from what was given, in nanoseconds since 1970 UTC; open where nothing was.

    Raises:
        PersonError: it is no time.
    """
    every = NameQuery(()).changed
    return (
        parse_period(since)[0] if since else every[0],
        parse_period(until)[1] if until else every[1],
    )


@click.command("changes", cls=StoreCommand)
@look_argument
@click.argument("path", required=False)
@click.option("--since", metavar="T", help=tr("Only changes that snapshots from then on noticed."))
@click.option("--until", metavar="T", help=tr("Only changes that snapshots until then noticed."))
@click.option("--to", "target", metavar="FILE", help=tr("Write them as CSV; “-”: to standard output."))
@whose_options
@json_option
def changes_command(
    named: str,
    passphrase_file: Path | None,
    path: str | None,
    since: str | None,
    until: str | None,
    target: str | None,
    machine: str,
    job_name: str,
    as_json: bool,
) -> int:
    """All that changed, snapshot by snapshot: what was new, changed, gone or moved.

    In all that is covered, or in PATH. What the first snapshot has did not change.
    """
    context = this_context()
    begin, end = stretch(since, until)
    wanted = None if path is None else browse.tidy(path)
    store = opened_to_look(context, named, passphrase_file)
    catalog, damage = caught_up(store, context.here.cache, as_json)
    whose = Chooser(context, store, Whose(machine, job_name), [wanted] if wanted else ()).machine()
    found = changes(catalog, whose.id, wanted, begin, end)
    if target is not None:
        count = _write_csv(found, target)
        if target != STANDARD_OUTPUT and not as_json:
            say(tr("{count} in {target}").format(count=count_words(count, "change"), target=target))
    elif as_json:
        print_json_list({"machine": whose.name}, "changes", map(_fields, found))
    else:
        now = context.clock.now()
        table(
            [tr("Noticed"), tr("What"), tr("Path"), tr("Before"), tr("After")],
            (
                [
                    time_words(one.point.time, now),
                    _words(one),
                    show_path(one.path),
                    _size(one.before),
                    _size(one.after),
                ]
                for one in found
            ),
            right=(3, 4),
        )
    for error in damage:
        output.print_error(error, as_json)
    return output.DAMAGED if damage else output.DONE


def _write_csv(found: Iterable[Change], target: str) -> int:
    """Write changes as CSV (RFC 4180, UTF-8); how many."""
    count = 0
    with ExitStack() as files:
        out = sys.stdout.buffer if target == STANDARD_OUTPUT else files.enter_context(new_file(Path(target)))
        text = io.TextIOWrapper(out, "utf-8", newline="", write_through=True)
        rows = csv.writer(text)
        rows.writerow(_COLUMNS)
        for one in found:
            rows.writerow(_row(one))
            count += 1
        text.detach()
    return count


def _row(one: Change) -> Iterator[str]:
    values = _fields(one)
    return ("" if values[column] is None else str(values[column]) for column in _COLUMNS)


def _fields(one: Change) -> dict[str, Any]:
    return {
        "time": iso(one.point.time),
        "snapshot": one.point.name,
        "change": one.became.value,
        **path_fields(one.path),
        **(path_fields(one.was, "path_before") if one.was else {"path_before": None}),
        "type": Kind(one.kind).word,
        "size_before": one.before,
        "size_after": one.after,
        "modified": iso(one.modified),
    }


def _words(one: Change) -> str:
    if one.became is Became.MOVED:
        return tr("moved from {other}").format(other=show_path(one.was))
    return {Became.NEW: tr("new"), Became.CHANGED: tr("changed"), Became.GONE: tr("gone")}[one.became]


def _size(size: int | None) -> str:
    return "" if size is None else size_words(size)
