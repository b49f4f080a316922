"""Commands about restores that were made: which there are, going on with one that was cut off, undoing one,
and letting go of what one set aside."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import click

from good_tide.cli import output
from good_tide.cli.options import json_option, opened_to_look, passphrase_option, progress_option
from good_tide.cli.output import path_fields, print_json, say, table
from good_tide.cli.restore_commands import say_undone
from good_tide.core.errors import PersonError
from good_tide.core.restoring import Extent, RestoreNote, RestoreState
from good_tide.core.translation import tr
from good_tide.core.words import count_words, iso, number_words, printable, size_words, time_words
from good_tide.operations.context import Context, this_context
from good_tide.operations.restore.restoring import aside_of, let_go, plan_request, restore, undo_note
from good_tide.operations.workplace import load_jobs

_STATES = {
    RestoreState.RUNNING: tr("goes on"),
    RestoreState.DONE: "done",
    RestoreState.CUT_OFF: tr("cut off"),
    RestoreState.UNDONE: "undone",
    RestoreState.LET_GO: tr("let go"),
}


@click.group("restores")
def restores_group() -> None:
    """Restores that were made here: what they set aside, and those that were cut off."""


@restores_group.command("list")
@json_option
def list_command(as_json: bool) -> int:
    """The restores, newest first. Ends with 1 when one was cut off."""
    context = this_context()
    notes = context.restores.all()
    if as_json:
        print_json({"restores": [_fields(note) for note in notes]})
    elif not notes:
        say(tr("Nothing was restored here yet."))
    else:
        now = context.clock.now()
        table(
            [tr("Restore"), tr("When"), tr("What"), tr("State"), tr("Set aside")],
            [_row(note, now) for note in notes],
            right=(4,),
        )
        for note in notes:
            if note.state is RestoreState.CUT_OFF:
                say(
                    tr("{id} was cut off: {why}. To go on: good-tide restores go-on {id_2}").format(
                        id=note.id, why=note.why, id_2=note.id
                    )
                )
    cut_off = any(note.state is RestoreState.CUT_OFF for note in notes)
    return output.WITH_GAPS if cut_off else output.DONE


def _row(note: RestoreNote, now: int) -> list[str]:
    aside = aside_of(note)
    size = (
        tr("{files} files, {bytes}").format(files=number_words(aside.files), bytes=size_words(aside.bytes))
        if aside.files
        else ""
    )
    return [note.id, time_words(note.began, now), _what(note), _STATES[note.state], size]


def _what(note: RestoreNote) -> str:
    wished = note.request.wished
    first = printable(os.path.basename(wished[0].path) or wished[0].path) if wished else ""
    return (
        first
        if len(wished) == 1
        else tr("{first} and {wished}").format(
            first=first, wished=count_words(len(wished) - 1, "more", "more")
        )
    )


def _fields(note: RestoreNote) -> dict[str, Any]:
    aside = aside_of(note)
    return {
        "restore": note.id,
        "state": note.state.value,
        "why": note.why,
        "began": iso(note.began),
        "ended": iso(note.ended) if note.ended else None,
        "store": note.place,
        "items": [{**path_fields(one.path), "snapshot": one.snapshot} for one in note.request.wished],
        "into": note.request.into or None,
        "created": note.created,
        "replaced": note.replaced,
        "set_aside_files": aside.files,
        "set_aside_bytes": aside.bytes,
        "undo": [folder for folder in note.folders if os.path.isdir(folder)],
    }


def _note(context: Context, identity: str) -> RestoreNote:
    note = context.restores.find(identity)
    if note is None:
        raise PersonError(
            tr("There is no restore {identity!r}").format(identity=identity),
            tr("See “good-tide restores list”"),
        )
    return note


@restores_group.command("go-on")
@click.argument("restore_id", metavar="RESTORE")
@passphrase_option
@click.option("--check", is_flag=True, help=tr("Read what was restored from the disk again, and compare it."))
@progress_option
@json_option
def go_on_command(
    restore_id: str, passphrase_file: Path | None, check: bool, progress: str | None, as_json: bool
) -> int:
    """Go on with a restore that was cut off: what it had brought is passed over."""
    context = this_context()
    note = _note(context, restore_id)
    if note.state is not RestoreState.CUT_OFF:
        raise PersonError(
            tr("This restore is not cut off: {STATES}").format(STATES=_STATES[note.state]),
            tr("See “good-tide restores list”"),
        )
    store = opened_to_look(context, note.place, passphrase_file)
    job = next((one for one in load_jobs(context.here.settings) if one.id == note.job), None)
    rules = job if note.request.extent is Extent.EXACTLY else None
    with output.steered(progress, as_json) as steering:
        plan = plan_request(context, store, note.request, rules, steering)
        report = restore(
            context,
            store,
            plan,
            note.request,
            steering,
            job=note.job,
            place=note.place,
            check=check,
            note=note.id,
        )
    if as_json:
        problems = [{**path_fields(one.path), "reason": one.reason} for one in report.problems]
        print_json(
            {
                "restore": note.id,
                "created": report.created,
                "replaced": report.replaced,
                "identical": report.identical,
                "bytes": report.bytes,
                "checked": report.checked,
                "problems": problems,
            }
        )
    else:
        say(
            tr(
                "{created} created, {replaced} replaced, {identical} were there already; {bytes} written."
            ).format(
                created=number_words(report.created),
                replaced=number_words(report.replaced),
                identical=number_words(report.identical),
                bytes=size_words(report.bytes),
            )
        )
        for problem in report.problems:
            say(tr("Problem: {path}: {reason}").format(path=printable(problem.path), reason=problem.reason))
    return output.WITH_GAPS if report.problems else output.DONE


@restores_group.command("undo")
@click.argument("restore_id", metavar="RESTORE")
@json_option
def undo_one_command(restore_id: str, as_json: bool) -> int:
    """Undo a restore: what it brought is removed, what it replaced is put back."""
    context = this_context()
    report = undo_note(context, _note(context, restore_id))
    return say_undone(report, as_json)


@restores_group.command("let-go")
@click.argument("restore_id", metavar="RESTORE")
@click.option(
    "--yes", is_flag=True, help=tr("Delete it; without this, it is only said what would be deleted.")
)
@json_option
def let_go_command(restore_id: str, yes: bool, as_json: bool) -> int:
    """Delete what a restore set aside. It cannot be undone after."""
    context = this_context()
    note = _note(context, restore_id)
    aside = let_go(context, note) if yes else aside_of(note)
    what = tr("{files}, {bytes}, that the restore had set aside").format(
        files=count_words(aside.files, "file"), bytes=size_words(aside.bytes)
    )
    if as_json:
        print_json({"restore": note.id, "deleted": yes, "files": aside.files, "bytes": aside.bytes})
    elif yes:
        say(tr("Deleted: {what}.").format(what=what))
    else:
        for folder in note.folders:
            say(tr("In {folder}").format(folder=folder))
        say(
            tr(
                "Would be deleted: {what}. Give --yes to delete it; the restore cannot be undone after."
            ).format(what=what)
        )
    return output.DONE
