"""Finding names in all of history."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.options import StoreCommand, json_option, opened_to_look, passphrase_option, whose_options
from good_tide.cli.output import path_fields, print_json, say, show_path, table
from good_tide.cli.parameters import PATH, STORE
from good_tide.cli.reading_history import caught_up
from good_tide.core.entries import Kind
from good_tide.core.errors import PersonError
from good_tide.core.history import Lifeline, TidePoint
from good_tide.core.kinds import KINDS
from good_tide.core.name_query import FOLDERS, NameQuery, parse_query
from good_tide.core.rules import parse_size
from good_tide.core.selection import parse_period, short_length
from good_tide.core.translation import tr
from good_tide.core.words import count_words, iso, size_words, time_words
from good_tide.operations.context import this_context
from good_tide.operations.history import browse
from good_tide.operations.history.choosing import Chooser, Whose
from good_tide.operations.history.missing import missing_in

_MOST = 1000
_LOOKS_SECONDS = 600.0
"""Whoever waits at a terminal may stop it."""


@click.command("find", cls=StoreCommand)
@click.argument("named", metavar="STORE|JOB", type=STORE)
@click.argument("words", nargs=-1, required=True)
@click.option("--gone", is_flag=True, help=tr("Only what is not there now."))
@click.option("--kind", type=click.Choice([FOLDERS, *KINDS]), help=tr("Only files of this kind, or folders."))
@click.option("--since", metavar="T", help=tr("Only what appeared, changed or went since then."))
@click.option("--until", metavar="T", help=tr("Only what appeared, changed or went until then."))
@click.option("--larger", metavar="SIZE", help=tr("Only files that were once at least so large."))
@click.option(
    "--most", type=click.IntRange(1), default=_MOST, show_default=True, help=tr("How many are shown at most.")
)
@whose_options
@passphrase_option
@json_option
def find_command(
    named: str,
    words: tuple[str, ...],
    gone: bool,
    kind: str | None,
    since: str | None,
    until: str | None,
    larger: str | None,
    most: int,
    machine: str,
    job_name: str,
    passphrase_file: Path | None,
    as_json: bool,
) -> int:
    """Find names in all of history, by any of their parts.

    Capitals and accents do not matter; * and ? stand for anything; a word with a slash is a part of the path.
    """
    context = this_context()
    parsed = parse_query(" ".join(words))
    if not parsed and not any("*" in word for word in words):
        raise PersonError(tr("Nothing is looked for"), tr("Write a part of a name"))
    every = NameQuery(())
    begin = parse_period(since)[0] if since else every.changed[0]
    end = parse_period(until)[1] if until else every.changed[1]
    store = opened_to_look(context, named, passphrase_file)
    catalog, damage = caught_up(store, context.here.cache, as_json)
    whose = Chooser(context, store, Whose(machine, job_name)).machine()
    size = parse_size(larger) if larger else 0
    query = NameQuery(parsed, gone, kind or "", (begin, end), size)
    found = catalog.find(whose.id, query, most)
    points = {point.seq: point for point in catalog.tide(whose.id)}
    lines = list(zip(found.paths, (line for folder in found.folders for line in folder.lines), strict=True))
    now = context.clock.now()
    if as_json:
        rows = [{**path_fields(path), **_fields(line, points)} for path, line in lines]
        known: dict[str, Any] = {"machine": whose.name, "more": found.more}
        print_json({**known, "found": [] if found.near else rows, "near": rows if found.near else []})
    else:
        if found.near or not lines:
            say(
                tr("Nothing was found.")
                if query.narrowed
                else tr("Nothing of this name was ever in a snapshot.")
            )
        if found.near and lines:
            say(tr("Names that are near:"))
        if lines:
            _table(lines, points, now)
        if found.more:
            say(
                tr("There are more than {count}: write more of it, or --most.").format(
                    count=count_words(found.count, "name")
                )
            )
    for error in damage:
        output.print_error(error, as_json)
    return output.DAMAGED if damage else output.DONE


@click.command("missing", cls=StoreCommand)
@click.argument("named", metavar="STORE|JOB", type=STORE)
@click.argument("folder", type=PATH)
@click.option(
    "--most", type=click.IntRange(1), default=_MOST, show_default=True, help=tr("How many are shown at most.")
)
@whose_options
@passphrase_option
@json_option
def missing_command(
    named: str,
    folder: Path,
    most: int,
    machine: str,
    job_name: str,
    passphrase_file: Path | None,
    as_json: bool,
) -> int:
    """What is missing in a folder: what was there and is no longer on the disk, the last first. Of a folder
    that is missing only itself."""
    context = this_context()
    path = browse.tidy(os.fspath(folder))
    store = opened_to_look(context, named, passphrase_file)
    catalog, damage = caught_up(store, context.here.cache, as_json)
    whose = Chooser(context, store, Whose(machine, job_name), [path]).machine()
    above = any(root.name.startswith(path.rstrip(b"/") + b"/") for root in catalog.roots(whose.id))
    if not above and catalog.folder(whose.id, path) is None:
        raise PersonError(
            tr("No snapshot of {name} has the folder {path}").format(name=whose.name, path=show_path(path)),
            tr("Find it by its name with: good-tide find"),
        )
    found = missing_in(catalog, whose.id, path, most, _LOOKS_SECONDS)
    points = {point.seq: point for point in catalog.tide(whose.id)}
    lines = list(zip(found.paths, (line for inside in found.folders for line in inside.lines), strict=True))
    if as_json:
        rows = [
            {
                **path_fields(path),
                **_fields(line, points),
                "gone": True,
                "later": path_fields(line.later) if line.later else None,
            }
            for path, line in lines
        ]
        print_json({"machine": whose.name, "more": found.more, "missing": rows})
    elif not lines:
        say(tr("Nothing is missing in {path}.").format(path=show_path(path)))
    else:
        _table(lines, points, context.clock.now(), missing=True)
        for path, line in lines:
            if line.later:
                say(tr("{path} goes on as {later}").format(path=show_path(path), later=show_path(line.later)))
        if found.more:
            say(tr("There is more: name a folder in it, or --most."))
    for error in damage:
        output.print_error(error, as_json)
    return output.DAMAGED if damage else output.DONE


def _table(
    lines: Sequence[tuple[bytes, Lifeline]],
    points: Mapping[int, TidePoint],
    now: int,
    missing: bool = False,
) -> None:
    """Names with their versions, as a table. :param missing: none of them is on the disk, whatever the newest
    snapshot has."""
    short = short_length(point.name for point in points.values())
    cells = [[show_path(path), *_cells(line, points, now, missing)] for path, line in lines]
    table(
        [tr("Path"), tr("Versions"), tr("Last seen"), tr("Size"), tr("Snapshot")],
        [[*row[:-1], row[-1][:short]] for row in cells],
        right=(1, 3),
    )


def _seen(line: Lifeline, points: Mapping[int, TidePoint]) -> tuple[TidePoint, TidePoint]:
    """The first and the last snapshot with a readable version of a name."""
    spans = [span for span in line.spans if span.kind != Kind.LEFT_OUT] or list(line.spans)
    last = spans[-1].last
    return points[spans[0].first], points[last if last is not None else max(points)]


def _fields(line: Lifeline, points: Mapping[int, TidePoint]) -> dict[str, Any]:
    first, last = _seen(line, points)
    readable = [span for span in line.spans if span.kind != Kind.LEFT_OUT]
    return {
        "type": Kind(line.kind).word,
        "versions": len(readable),
        "first_seen": iso(first.time),
        "last_seen": iso(last.time),
        "gone": line.gone,
        "size": line.spans[-1].size,
        "snapshot": last.name,
    }


def _cells(line: Lifeline, points: Mapping[int, TidePoint], now: int, missing: bool) -> list[str]:
    _, last = _seen(line, points)
    readable = [span for span in line.spans if span.kind != Kind.LEFT_OUT]
    seen = time_words(last.time, now) if line.gone or missing else tr("there now")
    is_folder = line.kind == Kind.FOLDER
    size = "" if is_folder else size_words(line.spans[-1].size)
    return ["folder" if is_folder else f"{len(readable):,}", seen, size, last.name]
