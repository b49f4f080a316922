"""What differs between two moments."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.options import (
    StoreCommand,
    json_option,
    look_argument,
    opened_to_look,
    progress_option,
    whose_options,
)
from good_tide.cli.output import path_fields, print_json, say, show_path, table
from good_tide.core.differences import Differing, What, counts_words
from good_tide.core.entries import Kind
from good_tide.core.records import Snapshot
from good_tide.core.translation import tr
from good_tide.core.words import iso, size_words
from good_tide.operations.context import this_context
from good_tide.operations.coverage.selecting import job_selector
from good_tide.operations.history import browse
from good_tide.operations.history.choosing import Chooser, Whose, of_words
from good_tide.operations.history.differences import between
from good_tide.operations.history.disk_differences import since
from good_tide.operations.stores.users import job_of

_NOW = "now"
_SIGNS = {
    What.GONE: "gone",
    What.NEW: "new",
    What.CHANGED: "changed",
    What.METADATA: tr("times or permissions"),
}


@click.command("differences", cls=StoreCommand)
@look_argument
@click.argument("then", metavar="A")
@click.argument("against", metavar="B|now")
@click.argument("path", required=False)
@whose_options
@progress_option
@json_option
def differences_command(
    named: str,
    passphrase_file: Path | None,
    then: str,
    against: str,
    path: str | None,
    machine: str,
    job_name: str,
    progress: str | None,
    as_json: bool,
) -> int:
    """What differs between the snapshot A and another one, or what is on the disk now.

    In all that is covered, or below PATH.
    """
    context = this_context()
    store = opened_to_look(context, named, passphrase_file)
    where = None if path is None else browse.tidy(path)
    chooser = Chooser(context, store, Whose(machine, job_name), [where] if where else ())
    first = chooser.choose(then)
    second = None if against == _NOW else chooser.choose(against)
    if second is None:
        chooser.in_place(first)
    with output.steered(progress, as_json) as steering:
        if second is not None:
            found = between(store, first, second, where, steering)
        else:
            job = job_of(context, store, first.machine)
            selector = job_selector(job, context.clock.now()) if job is not None else None
            found = since(store, first, where, selector, steering, context.here.own_places)
    counts = found.counts()
    if as_json:
        print_json(
            {
                "then": _moment(first),
                "against": _moment(second) if second is not None else _NOW,
                "counts": {
                    what.value: {"files": one.files, "bytes": one.bytes} for what, one in counts.items()
                },
                "items": [_fields(one) for one in found.items],
                "unclear": [{**path_fields(one), "why": why} for one, why in found.unclear],
            }
        )
    else:
        table(
            [tr("Path"), tr("What"), tr("Then"), tr("Against")],
            [[show_path(one.path), _words(one), *_sizes(one)] for one in found.items],
            right=(2, 3),
        )
        now = context.clock.now()
        other = f"{of_words(second, now)}" if second is not None else tr("what is on the disk now")
        say(
            tr("From {of_words} to {other}: {counts_words}.").format(
                of_words=of_words(first, now),
                other=other,
                counts_words=counts_words(counts) or tr("nothing differs"),
            )
        )
        for one, why in found.unclear:
            say(tr("Could not be compared: {one}: {why}").format(one=show_path(one), why=why))
    return output.WITH_GAPS if found.unclear else output.DONE


def _moment(snapshot: Snapshot) -> dict[str, Any]:
    return {"snapshot": snapshot.id, "time": iso(snapshot.time)}


def _fields(one: Differing) -> dict[str, Any]:
    moved = path_fields(one.other, "moved_from") if one.other else {"moved_from": None}
    return {
        **path_fields(one.path),
        "what": one.what.value,
        "type": Kind(one.kind).word,
        "size_then": one.before,
        "size_against": one.after,
        "files": one.files,
        **moved,
    }


def _words(one: Differing) -> str:
    return (
        tr("moved from {other}").format(other=show_path(one.other))
        if one.what is What.MOVED
        else _SIGNS[one.what]
    )


def _sizes(one: Differing) -> tuple[str, str]:
    if one.kind == Kind.FOLDER:
        return "", ""
    then = "" if one.what is What.NEW else size_words(one.before)
    return then, "" if one.what is What.GONE else size_words(one.after)
