"""Commands about one file or folder: its versions, and what is in one of them."""

from __future__ import annotations

import base64
import contextlib
import os
import sys
from pathlib import Path
from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.options import StoreCommand, json_option, look_argument, opened_to_look, whose_options
from good_tide.cli.output import named_snapshot, path_fields, print_json, say, table
from good_tide.cli.reading_history import caught_up
from good_tide.core.clock import SystemClock
from good_tide.core.comparing import Comparison
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import PersonError
from good_tide.core.previews import FactsPreview, PicturePreview, Preview, SoundPreview, lines_of
from good_tide.core.progress import Silent
from good_tide.core.selection import never_seen, short_length
from good_tide.core.translation import tr
from good_tide.core.words import duration_words, harmless, iso, iso_all, printable, size_words, time_words
from good_tide.operations.context import this_context
from good_tide.operations.history import browse
from good_tide.operations.history.choosing import Chooser, Whose
from good_tide.operations.history.containing import containing as containing_versions
from good_tide.operations.history.path_history import machines_with, path_history, path_life
from good_tide.operations.history.showing import compare_moments, compare_with_disk, show
from good_tide.operations.stores.opening import Store
from good_tide.viewing.apart import Viewer

_CONTAINS = {True: "yes", False: "no", None: tr("no text")}


@click.command("versions", cls=StoreCommand)
@look_argument
@click.argument("path")
@click.option("--containing", default="", metavar="TEXT", help=tr("Say in which versions this text stands."))
@whose_options
@json_option
def versions_command(
    named: str,
    passphrase_file: Path | None,
    path: str,
    containing: str,
    machine: str,
    job_name: str,
    as_json: bool,
) -> int:
    """The versions of a file or folder through all snapshots of this store."""
    context = this_context()
    here, store = context.here, opened_to_look(context, named, passphrase_file)
    catalog, damage = caught_up(store, here.cache, as_json)
    inside = browse.tidy(path)
    whose = Chooser(context, store, Whose(machine, job_name), [inside]).machine()
    found = path_history(catalog, inside, whose.id)
    if found is None:
        others = machines_with(catalog, inside)
        if others:
            what = tr("{path!r} was never in a snapshot of {name}").format(
                path=os.fsdecode(inside), name=whose.name
            )
            raise PersonError(
                what, tr("{others} had it: see --machine and --job").format(others=", ".join(others))
            )
        raise never_seen(inside, catalog.find_near(inside))
    tide = catalog.tide(whose.id)
    times = tide.time
    has: list[bool | None] = []
    if containing:
        life = [one for one in path_life(catalog, whose.id, inside) if one[1].kind != Kind.LEFT_OUT]
        with contextlib.closing(Viewer()) as viewer:
            has = containing_versions(viewer, store, tide, life, containing, Silent())
    exact = dict(zip(times, iso_all(times), strict=True))
    if as_json:
        print_json(
            {
                "machine": whose.name,
                "versions": [
                    {
                        "version": number,
                        "first_seen": exact[version.first_seen],
                        "last_seen": exact[version.last_seen],
                        "snapshot": version.first,
                        "last_snapshot": version.last,
                        "size": version.size,
                        "modified": iso(version.modified),
                        "snapshots": version.snapshots,
                        **path_fields(version.path),
                        **({"contains": has[number - 1]} if has else {}),
                    }
                    for number, version in enumerate(found.versions, 1)
                ],
                "gone_since": None if found.gone_since is None else exact[found.gone_since],
                "goes_on_as": printable(found.later) if found.later else None,
            }
        )
    else:
        now, short = SystemClock().now(), short_length(point.name for point in tide)
        rows = [
            [
                str(number),
                time_words(one.first_seen, now),
                time_words(one.last_seen, now),
                f"{one.snapshots:,}",
                size_words(one.size),
                time_words(one.modified, now),
                one.first[:short],
                *([_CONTAINS[has[number - 1]]] if has else []),
            ]
            for number, one in enumerate(found.versions, 1)
        ]
        table(
            [
                *(
                    tr("Version"),
                    tr("First seen"),
                    tr("Last seen"),
                    tr("Snapshots"),
                    tr("Size"),
                    tr("Modified"),
                    tr("Snapshot"),
                ),
                *([tr("Says it")] if has else []),
            ],
            rows,
            right=(0, 3, 4),
        )
        if len(catalog.machines()) > 1:
            say(tr("Snapshots of {name}.").format(name=whose.name))
        for number, one in enumerate(found.versions, 1):
            if one.path != inside and (number == 1 or found.versions[number - 2].path != one.path):
                say(
                    tr("From version {number} on it was called {path}.").format(
                        number=number, path=printable(one.path)
                    )
                )
        if found.later:
            say(tr("It goes on as {later}.").format(later=printable(found.later)))
        elif found.gone_since is not None:
            say(
                tr("No longer there since the snapshot of {gone_since}.").format(
                    gone_since=time_words(found.gone_since, now)
                )
            )
    for error in damage:
        output.print_error(error, as_json)
    return output.DAMAGED if damage else output.DONE


@click.command("show", cls=StoreCommand)
@look_argument
@click.argument("snapshot_name", metavar="SNAPSHOT")
@click.argument("path")
@click.option("--text", is_flag=True, help=tr("Its text instead: of tables, documents, lists of archives."))
@click.option(
    "--against",
    default="",
    metavar="SNAPSHOT|now",
    help=tr("Instead, how its text differs from another moment."),
)
@whose_options
@json_option
def show_command(
    named: str,
    passphrase_file: Path | None,
    snapshot_name: str,
    path: str,
    text: bool,
    against: str,
    machine: str,
    job_name: str,
    as_json: bool,
) -> int:
    """Write the content of a file, as it was in a snapshot, to standard output. With --json an object that
    has it in base64, or the lines of its text."""
    context = this_context()
    store = opened_to_look(context, named, passphrase_file)
    where = browse.tidy(path)
    chooser = Chooser(context, store, Whose(machine, job_name), [where])
    chosen = chooser.choose(snapshot_name)
    entry = browse.entry_at(store, chosen, where)
    if as_json and not against:
        print_json({**named_snapshot(chosen), **path_fields(where), **_content_fields(store, entry, text)})
        return output.DONE
    if text or against:
        if entry.kind is not Kind.FILE:
            raise PersonError(tr("{path!r} is no file").format(path=os.fsdecode(where)), tr("Choose a file"))
        with contextlib.closing(Viewer()) as viewer:
            if not against:
                _print_text(show(viewer, store, entry))
                return output.DONE
            compared = (
                compare_with_disk(viewer, store, entry, where)
                if against == "now"
                else compare_moments(viewer, store, entry, chooser.choose(against), where)
            )
        if as_json:
            fields = {**named_snapshot(chosen), **path_fields(where), **_comparison_fields(compared)}
            print_json({**fields, "against": against})
        else:
            _print_comparison(compared)
        return output.DONE
    for part in browse.parts_of_file(store, entry):
        sys.stdout.buffer.write(part)
    sys.stdout.buffer.flush()
    return output.DONE


def _content_fields(store: Store, entry: Entry, text: bool) -> dict[str, Any]:
    """What a file holds, for JSON."""
    if text:
        with contextlib.closing(Viewer()) as viewer:
            return {"text": list(lines_of(show(viewer, store, entry)) or [])}
    whole = b"".join(browse.parts_of_file(store, entry))
    return {"size": len(whole), "content": base64.b64encode(whole).decode()}


def _comparison_fields(comparison: Comparison) -> dict[str, Any]:
    """How two versions differ, for JSON: the lines that only one of them has."""
    text = comparison.compared.text if comparison.compared is not None else None
    pairs = [pair for pair in text.pairs if not pair.equal] if text is not None else []
    return {
        "words": comparison.words,
        "verdict": str(comparison.verdict),
        "only_here": [pair.left.text for pair in pairs if pair.left is not None],
        "only_there": [pair.right.text for pair in pairs if pair.right is not None],
    }


def _print_text(shown: Preview) -> None:
    """What the window shows of a version, as far as it is text."""
    match shown:
        case FactsPreview(words=words, trouble=trouble):
            say(words)
            if trouble:
                say(trouble)
        case PicturePreview(facts=words):
            say(words)
        case SoundPreview(seconds=seconds, facts=words):
            say(tr("Sound, {seconds}, {words}").format(seconds=duration_words(seconds), words=words))
        case _:
            for line in lines_of(shown) or []:
                click.echo(harmless(line))


def _print_comparison(comparison: Comparison) -> None:
    """The lines that differ: those of the chosen version with +, those of the other with a minus sign."""
    say(comparison.words)
    compared = comparison.compared
    if compared is None or compared.text is None:
        return
    last = 0
    for pair in compared.text.pairs:
        number = pair.left.number if pair.left is not None else last
        if number > last + 1:
            say("…")
        last = number
        if pair.equal and pair.left is not None:
            click.echo(harmless(f"  {pair.left.text}"))
            continue
        for sign, side in (("-", pair.right), ("+", pair.left)):
            if side is not None:
                click.echo(harmless(f"{sign} {side.text}"))
