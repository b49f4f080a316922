"""Commands that bring things back."""

from __future__ import annotations

import os
import shlex
from pathlib import Path

import click

from good_tide.cli import output
from good_tide.cli.export_commands import archived
from good_tide.cli.options import (
    StoreCommand,
    json_option,
    look_argument,
    opened_to_look,
    passphrase_option,
    progress_option,
    whose_options,
)
from good_tide.cli.output import named_snapshot, path_fields, print_json, say, show_path, table
from good_tide.cli.parameters import PATH
from good_tide.core.errors import PersonError
from good_tide.core.identifiers import JobId
from good_tide.core.records import Snapshot
from good_tide.core.restoring import Action, Existing, Extent, RestoreRequest, Wished
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words, size_words
from good_tide.operations.context import this_context
from good_tide.operations.history import browse
from good_tide.operations.history.choosing import Chooser, Whose, of_words
from good_tide.operations.restore.plan import Plan
from good_tide.operations.restore.report import RestoreReport
from good_tide.operations.restore.restoring import plan_request, restore, undo_restore
from good_tide.operations.restore.set_aside import UndoReport
from good_tide.operations.stores.users import job_of


@click.command("restore", cls=StoreCommand)
@look_argument
@click.option(
    "--snapshot",
    "snapshot_name",
    required=True,
    metavar="S",
    help=tr("The snapshot to restore from: an id, “latest”, or a time."),
)
@click.option(
    "--path",
    "paths",
    multiple=True,
    metavar="P",
    help=tr("Path as it was on the machine; may be given again. Above the covered folders: all those below."),
)
@click.option("--all", "everything", is_flag=True, help=tr("Everything that is in the snapshot."))
@click.option("--into", type=PATH, metavar="DIR", help=tr("Restore into this folder."))
@click.option("--in-place", is_flag=True, help=tr("Restore to where it was."))
@click.option("--plan", "plan_only", is_flag=True, help=tr("Only say what would be done."))
@click.option(
    "--existing",
    type=click.Choice([one.value for one in Existing]),
    default="set-aside",
    show_default=True,
    help=tr("What to do with what is there now."),
)
@click.option("--missing-only", is_flag=True, help=tr("Only what is not there now."))
@click.option("--changed-only", is_flag=True, help=tr("Only what is there now and is another."))
@click.option(
    "--exactly", is_flag=True, help=tr("Make folders as they were: what was not there then is set aside.")
)
@click.option(
    "--home",
    "homes",
    multiple=True,
    metavar="OLD=NEW",
    help=tr("What was below the home OLD goes below NEW; may be given again."),
)
@click.option(
    "--owner",
    "owners",
    multiple=True,
    metavar="NAME=NAME",
    help=tr("A user or group as it was called, and as it is called here; may be given again."),
)
@click.option(
    "--archive",
    metavar="FILE",
    help=tr("Write an archive instead, as “good-tide export” does; “-”: tar to standard output."),
)
@click.option(
    "--check",
    is_flag=True,
    help=tr("Read what was restored from the disk again, and compare it with the store."),
)
@click.option(
    "--without",
    multiple=True,
    metavar="PATH",
    help=tr("Leave out an item of the plan, with all below it; may be given again."),
)
@whose_options
@progress_option
@json_option
def restore_command(
    named: str,
    passphrase_file: Path | None,
    snapshot_name: str,
    machine: str,
    job_name: str,
    paths: tuple[str, ...],
    everything: bool,
    into: Path | None,
    in_place: bool,
    plan_only: bool,
    existing: str,
    missing_only: bool,
    changed_only: bool,
    exactly: bool,
    homes: tuple[str, ...],
    owners: tuple[str, ...],
    archive: str | None,
    check: bool,
    without: tuple[str, ...],
    progress: str | None,
    as_json: bool,
) -> int:
    """Bring files or folders back. What is replaced is set aside, so that it can be undone."""
    if [into is not None, in_place, bool(homes), archive is not None].count(True) != 1:
        raise PersonError(
            tr("Where to restore to is not clear"),
            tr("Give one of --into DIR, --in-place, --home OLD=NEW, --archive FILE"),
        )
    if bool(paths) == everything:
        raise PersonError(tr("What to restore is not clear"), tr("Give --path, or --all"))
    extent = _extent(missing_only, changed_only, exactly)
    context = this_context()
    store = opened_to_look(context, named, passphrase_file)
    wanted = [browse.tidy(path) for path in paths]
    chooser = Chooser(context, store, Whose(machine, job_name), wanted)
    chosen = chooser.choose(snapshot_name)
    if in_place:
        chooser.in_place(chosen)
    if archive is not None:
        meant = browse.meant(store, chosen, wanted)
        return archived(store, chosen, meant, archive, progress, as_json)
    job = job_of(context, store, chosen.machine)
    request = RestoreRequest(
        tuple(Wished(path, chosen.id) for path in browse.meant(store, chosen, wanted)),
        str(into.absolute()) if into is not None else "",
        Existing(existing),
        extent,
        tuple(_home(one) for one in homes),
        dict(_pair(one) for one in owners),
        tuple(browse.tidy(path) for path in without),
    )
    with output.steered(progress, as_json) as steering:
        rules = job if extent is Extent.EXACTLY else None
        plan = plan_request(context, store, request, rules, steering)
        report = None
        if not plan_only:
            named_job = job.id if job is not None else JobId("")
            place = os.path.abspath(named) if os.path.exists(named) else named
            report = restore(context, store, plan, request, steering, job=named_job, place=place, check=check)
    if not as_json:
        say(tr("From {of_words}.").format(of_words=of_words(chosen, context.clock.now())))
    if report is None:
        _print_plan(plan, chosen, as_json)
        return output.WITH_GAPS if plan.count(Action.BLOCKED) else output.DONE
    _print_report(report, plan, chosen, as_json)
    return output.WITH_GAPS if report.problems else output.DONE


def _pair(given: str) -> tuple[str, str]:
    """Two names with an equals sign between them.

    Raises:
        PersonError: it is none.
    """
    first, equals, second = given.partition("=")
    if not (first and equals and second):
        raise PersonError(tr("{given} names no two things").format(given=given), tr("Write it as OLD=NEW"))
    return first, second


def _home(given: str) -> tuple[bytes, bytes]:
    old, new = _pair(given)
    return browse.tidy(old), browse.tidy(new)


def _extent(missing_only: bool, changed_only: bool, exactly: bool) -> Extent:
    """How much is brought back.

    Raises:
        PersonError: two of them contradict each other.
    """
    chosen = {Extent.MISSING: missing_only, Extent.CHANGED: changed_only, Extent.EXACTLY: exactly}
    wanted = [extent for extent, on in chosen.items() if on]
    if len(wanted) > 1:
        raise PersonError(
            tr("--missing-only, --changed-only and --exactly contradict each other"), tr("Give one of them")
        )
    return wanted[0] if wanted else Extent.ALL


def _print_plan(plan: Plan, chosen: Snapshot, as_json: bool) -> None:
    if as_json:
        print_json(
            {
                **named_snapshot(chosen),
                "created": plan.count(Action.CREATE),
                "replaced": plan.count(Action.REPLACE),
                "identical": plan.count(Action.IDENTICAL),
                "skipped": plan.count(Action.SKIP),
                "strange": plan.count(Action.ASIDE),
                "bytes": plan.payload,
                "set_aside": None,
                "problems": [
                    {**path_fields(step.source), "reason": step.note}
                    for step in plan.steps
                    if step.action is Action.BLOCKED
                ],
                "items": [{**path_fields(step.shown), "action": step.action.value} for step in plan.steps],
            }
        )
        return
    words = {
        "create": tr("will be created"),
        "identical": tr("is identical"),
        "replace": tr("will replace; what is there now will be set aside"),
        "skip": tr("is left as it is"),
        "blocked": tr("cannot be restored"),
        "aside": tr("will be set aside"),
    }
    table(
        [tr("Item"), tr("What happens")],
        [
            [show_path(step.shown), words[step.action] + (f": {step.note}" if step.note else "")]
            for step in plan.steps
        ],
    )
    for note in plan.notes:
        say(note + ".")
    say(tr("{payload} to be written.").format(payload=size_words(plan.payload)))


def _print_report(report: RestoreReport, plan: Plan, chosen: Snapshot, as_json: bool) -> None:
    aside = [str(path) for path in report.set_aside]
    if as_json:
        print_json(
            {
                **named_snapshot(chosen),
                "created": report.created,
                "replaced": report.replaced,
                "identical": report.identical,
                "skipped": report.skipped,
                "strange": report.strange,
                "bytes": report.bytes,
                "checked": report.checked,
                "undo": [str(path) for path in (*report.set_aside, *report.records)],
                "set_aside": aside[0] if aside else None,
                "problems": [
                    {**path_fields(problem.path), "reason": problem.reason} for problem in report.problems
                ],
                "notes": (
                    list(plan.notes)
                    + [f"{show_path(note.path)}: {note.reason}" for note in report.metadata_notes]
                ),
            }
        )
        return
    say(
        tr(
            "{created} created, {replaced} replaced, {identical} identical, {skipped} skipped; {bytes}"
            " written."
        ).format(
            created=number_words(report.created),
            replaced=number_words(report.replaced),
            identical=number_words(report.identical),
            skipped=number_words(report.skipped),
            bytes=size_words(report.bytes),
        )
    )
    if report.strange:
        say(
            tr("{strange} that was not there then: set aside.").format(
                strange=count_words(report.strange, "thing")
            )
        )
    for path in aside:
        say(tr("What was replaced lies in {path}").format(path=path))
    if report.checked:
        say(
            tr("{checked} read again: the same as in the store.").format(checked=number_words(report.checked))
        )
    for folder in (*report.set_aside, *report.records):
        say(tr("To undo this restore: good-tide undo {folder}").format(folder=shlex.quote(str(folder))))
    for note in plan.notes:
        say(note + ".")
    for problem in [*report.problems, *report.metadata_notes]:
        say(tr("Problem: {path}: {reason}").format(path=show_path(problem.path), reason=problem.reason))


@click.command("undo")
@click.option("--store", hidden=True, help=tr("Not needed any more."))
@passphrase_option
@click.argument("set_aside", metavar="SET_ASIDE_DIR", type=PATH)
@json_option
def undo_command(store: str | None, passphrase_file: Path | None, set_aside: Path, as_json: bool) -> int:
    """Undo a restore: remove what it brought, and put back what it replaced. No store is needed for it."""
    report = undo_restore(this_context(), [Path(os.path.abspath(set_aside))])
    return say_undone(report, as_json)


def say_undone(report: UndoReport, as_json: bool) -> int:
    """Say what an undo did. The code to end with."""
    if as_json:
        print_json(
            {
                "put_back": report.put_back,
                "removed": report.removed,
                "kept": [path_fields(path) for path in report.kept],
            }
        )
    else:
        say(
            tr("{put_back} put back, {removed} restored items removed.").format(
                put_back=number_words(report.put_back), removed=number_words(report.removed)
            )
        )
        for path in report.kept:
            say(tr("Left as it is, because it was changed since: {path}").format(path=show_path(path)))
    return output.WITH_GAPS if report.kept else output.DONE
