"""Handing out what was: as an archive, with its sums."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from good_tide.cli import output
from good_tide.cli.changes_commands import stretch
from good_tide.cli.options import (
    StoreCommand,
    json_option,
    look_argument,
    opened_to_look,
    progress_option,
    whose_options,
)
from good_tide.cli.output import named_snapshot, path_fields, print_json, say, show_path
from good_tide.cli.parameters import PATH
from good_tide.cli.reading_history import caught_up
from good_tide.core.records import Snapshot
from good_tide.core.restoring import Wished
from good_tide.core.translation import tr
from good_tide.core.words import count_words, size_words
from good_tide.operations.context import this_context
from good_tide.operations.history import browse
from good_tide.operations.history.choosing import Chooser, Whose
from good_tide.operations.restore.all_versions import version_items
from good_tide.operations.restore.archive import STANDARD_OUTPUT, ArchiveReport, write_archive, write_items
from good_tide.operations.restore.handed_folder import write_folder
from good_tide.operations.restore.plan import Wish
from good_tide.operations.stores.opening import Store

_Command = TypeVar("_Command", bound=Callable[..., Any])


def _archive_options(command: _Command) -> _Command:
    """Where an archive goes, and the sums of what is in it."""
    sums = click.option(
        "--sums",
        type=PATH,
        metavar="FILE",
        help=tr("Write the SHA-256 of each file too; “sha256sum -c FILE” checks what was unpacked."),
    )
    to = click.option(
        "--to",
        "target",
        required=True,
        metavar="FILE",
        help=tr(
            "The archive, by the ending .tar, .tar.gz, .tar.zst or .zip; “-”: tar to standard output; for"
            " export a folder as well, with a slash at its end or there already."
        ),
    )
    return to(sums(command))


@click.command("export", cls=StoreCommand)
@look_argument
@click.argument("snapshot_name", metavar="SNAPSHOT")
@click.argument("paths", metavar="[PATH]...", nargs=-1)
@_archive_options
@whose_options
@progress_option
@json_option
def export_command(
    named: str,
    passphrase_file: Path | None,
    snapshot_name: str,
    paths: tuple[str, ...],
    target: str,
    sums: Path | None,
    machine: str,
    job_name: str,
    progress: str | None,
    as_json: bool,
) -> int:
    """Hand out files or folders as they were in a snapshot, or all of it: as an archive, or a folder."""
    context = this_context()
    store = opened_to_look(context, named, passphrase_file)
    wanted = [browse.tidy(path) for path in paths]
    chosen = Chooser(context, store, Whose(machine, job_name), wanted).choose(snapshot_name)
    meant = browse.meant(store, chosen, wanted)
    if target.endswith("/") or os.path.isdir(target):
        wished = tuple(Wished(path, chosen.id) for path in meant)
        with output.steered(progress, as_json) as steering:
            report = write_folder(context, store, wished, Path(target).absolute(), steering, sums)
        return _say_archived(report, named_snapshot(chosen), target, as_json)
    return archived(store, chosen, meant, target, progress, as_json, sums)


@click.command("export-versions", cls=StoreCommand)
@look_argument
@click.argument("path")
@click.option("--since", metavar="T", help=tr("Only what stood then or later."))
@click.option("--until", metavar="T", help=tr("Only what stood until then."))
@_archive_options
@whose_options
@progress_option
@json_option
def export_versions_command(
    named: str,
    passphrase_file: Path | None,
    path: str,
    since: str | None,
    until: str | None,
    target: str,
    sums: Path | None,
    machine: str,
    job_name: str,
    progress: str | None,
    as_json: bool,
) -> int:
    """Hand out all versions of a file, or of all files in a folder, between two times: as an archive, in
    which each version is called by the first moment that has it."""
    context, wanted = this_context(), browse.tidy(path)
    times = stretch(since, until)
    store = opened_to_look(context, named, passphrase_file)
    catalog, damage = caught_up(store, context.here.cache, as_json)
    whose = Chooser(context, store, Whose(machine, job_name), [wanted]).machine()
    problems: list[tuple[bytes, str]] = []
    items = version_items(store, catalog, whose.id, wanted, times, problems)
    with output.steered(progress, as_json) as steering:
        report = write_items(store, items, target, sys.stdout.buffer, steering, sums)
    report.problems += problems + [(os.fsencode(one.file), one.what) for one in damage]
    return _say_archived(report, {"machine": whose.name}, target, as_json)


def archived(
    store: Store,
    chosen: Snapshot,
    paths: list[bytes],
    target: str,
    progress: str | None,
    as_json: bool,
    sums: Path | None = None,
) -> int:
    """Write an archive, and say what is in it; on standard error where it goes to standard output."""
    wishes = [Wish(chosen, path) for path in paths]
    with output.steered(progress, as_json) as steering:
        report = write_archive(store, wishes, target, sys.stdout.buffer, steering, sums)
    return _say_archived(report, named_snapshot(chosen), target, as_json)


def _say_archived(report: ArchiveReport, of: dict[str, Any], target: str, as_json: bool) -> int:
    """What is in an archive; on standard error where it went to standard output."""
    if target == STANDARD_OUTPUT:
        for path, why in report.problems:
            click.echo(tr("Not in it: {path}: {why}").format(path=show_path(path), why=why), err=True)
    elif as_json:
        print_json(
            {
                **of,
                "archive": os.path.abspath(target),
                "files": report.files,
                "folders": report.folders,
                "links": report.links,
                "bytes": report.size,
                "problems": [{**path_fields(path), "reason": why} for path, why in report.problems],
            }
        )
    else:
        what = f"{count_words(report.files, 'file')}, {size_words(report.size)}"
        say(
            tr("{what}, {folders} and {links} in {target}").format(
                what=what,
                folders=count_words(report.folders, "folder"),
                links=count_words(report.links, "link"),
                target=target,
            )
        )
        for path, why in report.problems:
            say(tr("Not in it: {path}: {why}").format(path=show_path(path), why=why))
    return output.WITH_GAPS if report.problems else output.DONE
