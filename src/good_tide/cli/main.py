"""The command line."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import Any

import click

from good_tide import __version__
from good_tide.cli import output
from good_tide.cli.agent_commands import agent_group
from good_tide.cli.coverage_commands import coverage_command, run_jobs
from good_tide.cli.history_commands import (
    ladder_command,
    pin_command,
    purge_command,
    release_command,
    room_command,
    sweep_command,
    thin_command,
)
from good_tide.cli.job_commands import disks_command, job_group
from good_tide.cli.options import json_option, open_from_terminal, passphrase_option, progress_option, read_passphrase, store_option
from good_tide.cli.output import path_fields, print_json, say, show_path, table
from good_tide.cli.stand_in_commands import stand_in_group
from good_tide.cli.store_commands import carry_command, passphrase_command, slots_command
from good_tide.cli.telling_commands import fleet_command, journal_command, mail_command, report_command
from good_tide.cli.upkeep_commands import eject_command, pause_command, resume_command, rhythm_command, run_due_command, status_command
from good_tide.core.clock import SystemClock
from good_tide.core.entries import Entry
from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.records import Snapshot
from good_tide.core.selection import choose_snapshot, never_seen, parse_time
from good_tide.core.words import count_words, iso, size_words, time_words
from good_tide.operations import browse
from good_tide.operations.capture import CaptureRequest, capture
from good_tide.operations.history import path_history
from good_tide.operations.restore_work import RestoreReport, carry_out
from good_tide.operations.restoring import Action, Existing, Plan, Wish, plan_restore
from good_tide.operations.set_aside import undo
from good_tide.operations.stores import Store, about, create_at, locked_hint, open_catalog, synced_catalog, take_into_catalog
from good_tide.operations.verifying import affected_words, verify
from good_tide.operations.workplace import this_workplace, use_settings


def _pick(store: Store, wanted: str) -> Snapshot:
    return choose_snapshot(store.snapshots()[0], wanted)


@click.group(context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.version_option(__version__, message="Good Tide %(version)s")
@click.option(
    "--settings", type=click.Path(path_type=Path), metavar="DIR", help="Another settings folder than this person's own, such as the demo's."
)
def cli(settings: Path | None) -> None:
    """Point-in-time snapshots of user folders: deduplicated, encrypted, and easy to get back.

    Exit codes: 0 done; 1 done, with something left out and named; 2 wrong usage; 3 the store or disk cannot be used
    now; 4 the store is damaged; 5 stopped.
    """
    if settings is not None:
        use_settings(settings)


@cli.group("store")
def store_group() -> None:
    """Make a store, or ask about one."""


@store_group.command("create")
@click.argument("directory", type=click.Path(path_type=Path))
@passphrase_option
@click.option("--unencrypted", is_flag=True, help="Anybody who has the disk can read everything.")
@click.option("--hint", default="", help="A hint for the passphrase. Everybody can read it.")
@json_option
def store_create(directory: Path, passphrase_file: Path | None, unencrypted: bool, hint: str, as_json: bool) -> int:
    """Make a store in DIRECTORY and print its recovery key, once."""
    if unencrypted and passphrase_file is not None:
        raise PersonError("A store is either encrypted or not", "Give --passphrase-file or --unencrypted, not both")
    passphrase = read_passphrase(passphrase_file)
    if passphrase is None and not unencrypted:
        if not sys.stdin.isatty():
            raise PersonError("A passphrase is needed and there is no terminal to ask on", "Give --passphrase-file, or --unencrypted")
        passphrase = click.prompt("Passphrase for the new store", hide_input=True, confirmation_prompt="The same again", err=True)
    new = create_at(directory, passphrase, hint)
    if as_json:
        print_json(
            {"store": new.header.store, "format": new.header.format, "encrypted": new.header.encrypted, "recovery_key": new.recovery_key}
        )
    elif new.recovery_key is None:
        say(f"Made a store in {directory}. It is not encrypted: whoever has the disk can read everything in it.")
    else:
        say(f"Made an encrypted store in {directory}.\n\nRecovery key:  {new.recovery_key}\n")
        say("Copy it by hand and keep it away from this disk. It opens the store if the passphrase is lost, and is not shown again.")
    return output.DONE


@store_group.command("about")
@click.argument("directory", type=click.Path(path_type=Path))
@passphrase_option
@json_option
def store_about(directory: Path, passphrase_file: Path | None, as_json: bool) -> int:
    """What can be said of a store. Needs no passphrase; what that hides is left open."""
    unlocked = passphrase_file is not None or locked_hint(directory) is None
    facts = about(directory, open_from_terminal(directory, passphrase_file) if unlocked else None)
    machines = None if facts.machines is None else [machine.name for machine in facts.machines]
    if as_json:
        print_json(
            {
                "store": facts.store,
                "format": facts.format,
                "encrypted": facts.encrypted,
                "hint": facts.hint,
                "snapshots": facts.snapshots,
                "stored_bytes": facts.stored_bytes,
                "machines": machines,
            }
        )
        return output.DONE
    rows = [
        ["Store", facts.store],
        ["Format", str(facts.format)],
        ["Encrypted", "yes" if facts.encrypted else "no: whoever has the disk can read it"],
        ["Hint", facts.hint or "none"],
        ["Snapshots", f"{facts.snapshots:,}"],
        ["Stored", size_words(facts.stored_bytes)],
        ["Machines", "hidden without the passphrase" if machines is None else ", ".join(machines) or "none yet"],
    ]
    table(["", ""], rows)
    return output.DONE


@cli.command()
@click.argument("job_name", metavar="[NAME]", required=False)
@click.option("--store", "store_folder", type=click.Path(path_type=Path), metavar="DIR", help="A store's folder, instead of a job.")
@passphrase_option
@click.option(
    "--folder",
    "folders",
    multiple=True,
    type=click.Path(path_type=Path),
    metavar="PATH",
    help="With --store: folder to cover; may be given again.",
)
@click.option("--label", default="", help="A label for the snapshot.")
@click.option("--at", metavar="TIME", help="With --store: the snapshot's time, to bring in dated copies; must be after the last one.")
@progress_option
@json_option
def snapshot(
    job_name: str | None,
    store_folder: Path | None,
    passphrase_file: Path | None,
    folders: tuple[Path, ...],
    label: str,
    at: str | None,
    progress: str | None,
    as_json: bool,
) -> int:
    """Take a snapshot: of the job NAME, of all jobs, or of given folders into a given store."""
    if store_folder is None:
        if folders or at is not None:
            raise PersonError("--folder and --at need a store", "Give --store DIR, or the name of a job alone")
        return run_jobs(job_name, passphrase_file, label, progress, as_json)
    if job_name is not None:
        raise PersonError("A job has its own stores", "Give either the name of a job or --store")
    if not folders:
        raise PersonError("No folder is named", "Give --folder PATH")
    moment = None if at is None else parse_time(at)
    store = open_from_terminal(store_folder, passphrase_file)
    here = this_workplace()
    request = CaptureRequest(folders, here.machine, label=label, at=moment)
    catalog = open_catalog(store, here.cache)
    with output.steered(progress, as_json) as steering:
        taken = capture(store, request, SystemClock(), steering, here.state, catalog.stored_small if catalog.names() else None)
        take_into_catalog(store, catalog)
    if as_json:
        print_json(output.snapshot_fields(taken))
    else:
        output.say_snapshot(taken)
    return output.WITH_GAPS if taken.gaps else output.DONE


@cli.command()
@store_option
@json_option
def history(store_folder: Path, passphrase_file: Path | None, as_json: bool) -> int:
    """All snapshots of a store, oldest first."""
    store = open_from_terminal(store_folder, passphrase_file)
    snapshots, damage = store.snapshots()
    if as_json:
        print_json({"snapshots": [_history_row(store, one) for one in snapshots]})
    else:
        now = SystemClock().now()
        rows = [
            [
                one.name[:12],
                time_words(one.record.time, now),
                one.record.machine.name,
                f"{one.record.tally.files:,}",
                size_words(one.record.tally.bytes),
                size_words(one.record.tally.new_bytes),
                f"{one.gaps} gaps" if one.gaps else "",
                one.record.label,
            ]
            for one in snapshots
        ]
        table(["Snapshot", "Time", "Machine", "Files", "Size", "New", "", "Label"], rows, right=(3, 4, 5))
    for error in damage:
        output.print_error(error, as_json)
    return output.DAMAGED if damage else output.DONE


def _history_row(store: Store, one: Snapshot) -> dict[str, Any]:
    tally = one.record.tally
    return {
        "snapshot": one.name,
        "time": iso(one.record.time),
        "machine": one.record.machine.name,
        "folders": [show_path(root.name) for root in store.roots(one.record)],
        "files": tally.files,
        "bytes": tally.bytes,
        "new_bytes": tally.new_bytes,
        "label": one.record.label,
        "gaps": one.gaps,
    }


@cli.command()
@store_option
@click.argument("snapshot_name", metavar="SNAPSHOT")
@click.argument("path", required=False)
@click.option("--deep", is_flag=True, help="Everything below, not only the folder itself.")
@json_option
def contents(store_folder: Path, passphrase_file: Path | None, snapshot_name: str, path: str | None, deep: bool, as_json: bool) -> int:
    """What a snapshot holds in a folder; the covered folders without PATH."""
    store = open_from_terminal(store_folder, passphrase_file)
    found = browse.contents(store, _pick(store, snapshot_name), None if path is None else browse.tidy(path), deep)
    if as_json:
        print_json({"entries": [_contents_row(where, entry) for where, entry in found]})
    else:
        rows = [
            [
                entry.kind.word,
                "" if entry.kind.word == "folder" else size_words(entry.stat.size),
                iso(entry.stat.modified)[:19].replace("T", " "),
                show_path(where),
            ]
            for where, entry in found
        ]
        table(["Type", "Size", "Modified", "Path"], rows, right=(1,))
    return output.DONE


def _contents_row(where: bytes, entry: Entry) -> dict[str, Any]:
    target = path_fields(entry.extra.target, "target") if entry.extra.target else {"target": None}
    row = {"type": entry.kind.word, "size": entry.stat.size, "modified": iso(entry.stat.modified), "mode": f"{entry.stat.mode:04o}"}
    return {**path_fields(where), **row, **target}


@cli.command()
@store_option
@click.argument("path")
@json_option
def versions(store_folder: Path, passphrase_file: Path | None, path: str, as_json: bool) -> int:
    """The versions of a file or folder through all snapshots of this store."""
    store = open_from_terminal(store_folder, passphrase_file)
    here = this_workplace()
    catalog, damage = synced_catalog(store, here.cache)
    where = browse.tidy(path)
    found = path_history(catalog, where, here.machine.id)
    if found is None:
        raise never_seen(where, catalog.find_near(where))
    if as_json:
        print_json(
            {
                "versions": [
                    {
                        "version": number,
                        "first_seen": iso(version.first_seen),
                        "last_seen": iso(version.last_seen),
                        "size": version.size,
                        "modified": iso(version.modified),
                        "snapshots": version.snapshots,
                    }
                    for number, version in enumerate(found.versions, 1)
                ],
                "gone_since": None if found.gone_since is None else iso(found.gone_since),
            }
        )
    else:
        now = SystemClock().now()
        rows = [
            [
                str(number),
                time_words(one.first_seen, now),
                time_words(one.last_seen, now),
                f"{one.snapshots:,}",
                size_words(one.size),
                time_words(one.modified, now),
            ]
            for number, one in enumerate(found.versions, 1)
        ]
        table(["Version", "First seen", "Last seen", "Snapshots", "Size", "Modified"], rows, right=(0, 3, 4))
        if found.gone_since is not None:
            say(f"No longer there since the snapshot of {time_words(found.gone_since, now)}.")
    for error in damage:
        output.print_error(error, as_json)
    return output.DAMAGED if damage else output.DONE


@cli.command()
@store_option
@click.option("--snapshot", "snapshot_name", required=True, metavar="S", help="The snapshot to restore from.")
@click.option("--path", "paths", required=True, multiple=True, metavar="P", help="Path as it was on the machine; may be given again.")
@click.option("--into", type=click.Path(path_type=Path), metavar="DIR", help="Restore into this folder.")
@click.option("--in-place", is_flag=True, help="Restore to where it was.")
@click.option("--plan", "plan_only", is_flag=True, help="Only say what would be done.")
@click.option(
    "--existing",
    type=click.Choice([one.value for one in Existing]),
    default="set-aside",
    show_default=True,
    help="What to do with what is there now.",
)
@progress_option
@json_option
def restore(
    store_folder: Path,
    passphrase_file: Path | None,
    snapshot_name: str,
    paths: tuple[str, ...],
    into: Path | None,
    in_place: bool,
    plan_only: bool,
    existing: str,
    progress: str | None,
    as_json: bool,
) -> int:
    """Bring files or folders back. What is replaced is set aside, so that it can be undone."""
    if (into is None) == (not in_place):
        raise PersonError("Where to restore to is not clear", "Give either --into DIR or --in-place")
    store = open_from_terminal(store_folder, passphrase_file)
    chosen = _pick(store, snapshot_name)
    wishes = [Wish(chosen, browse.tidy(path)) for path in paths]
    with output.steered(progress, as_json) as steering:
        plan = plan_restore(store, wishes, into, Existing(existing), steering)
        report = None if plan_only else carry_out(store, plan, SystemClock(), steering)
    if report is None:
        _print_plan(plan, as_json)
        return output.WITH_GAPS if plan.count(Action.BLOCKED) else output.DONE
    _print_report(report, plan, as_json)
    return output.WITH_GAPS if report.problems else output.DONE


def _print_plan(plan: Plan, as_json: bool) -> None:
    if as_json:
        print_json(
            {
                "created": plan.count(Action.CREATE),
                "replaced": plan.count(Action.REPLACE),
                "identical": plan.count(Action.IDENTICAL),
                "skipped": plan.count(Action.SKIP),
                "bytes": plan.payload,
                "set_aside": None,
                "problems": [{**path_fields(step.source), "reason": step.note} for step in plan.steps if step.action is Action.BLOCKED],
                "items": [{**path_fields(step.shown), "action": step.action.value} for step in plan.steps],
            }
        )
        return
    words = {
        "create": "will be created",
        "identical": "is identical",
        "replace": "will replace; what is there now will be set aside",
        "skip": "is left as it is",
        "blocked": "cannot be restored",
    }
    table(
        ["Item", "What happens"],
        [[show_path(step.shown), words[step.action] + (f": {step.note}" if step.note else "")] for step in plan.steps],
    )
    for note in plan.notes:
        say(note + ".")
    say(f"{size_words(plan.payload)} to be written.")


def _print_report(report: RestoreReport, plan: Plan, as_json: bool) -> None:
    aside = [str(path) for path in report.set_aside]
    if as_json:
        print_json(
            {
                "created": report.created,
                "replaced": report.replaced,
                "identical": report.identical,
                "skipped": report.skipped,
                "bytes": report.bytes,
                "set_aside": aside[0] if aside else None,
                "problems": [{**path_fields(problem.path), "reason": problem.reason} for problem in report.problems],
                "notes": list(plan.notes) + [f"{show_path(note.path)}: {note.reason}" for note in report.metadata_notes],
            }
        )
        return
    say(
        f"{report.created:,} created, {report.replaced:,} replaced, {report.identical:,} identical, {report.skipped:,} skipped; {size_words(report.bytes)} written."
    )
    for path in aside:
        say(f"What was replaced lies in {path}")
        say(f"To undo this restore: good-tide undo --store STORE '{path}'")
    for note in plan.notes:
        say(note + ".")
    for problem in [*report.problems, *report.metadata_notes]:
        say(f"Problem: {show_path(problem.path)}: {problem.reason}")


@cli.command("undo")
@store_option
@click.argument("set_aside", metavar="SET_ASIDE_DIR", type=click.Path(path_type=Path))
@json_option
def undo_command(store_folder: Path, passphrase_file: Path | None, set_aside: Path, as_json: bool) -> int:
    """Undo a restore: put back what it replaced. The store is not needed for it and not opened."""
    report = undo(Path(os.path.abspath(set_aside)))
    if as_json:
        print_json({"put_back": report.put_back, "removed": report.removed, "kept": [path_fields(path) for path in report.kept]})
    else:
        say(f"{report.put_back:,} put back, {report.removed:,} restored items removed.")
        for path in report.kept:
            say(f"Left as it is, because it was changed since: {show_path(path)}")
    return output.WITH_GAPS if report.kept else output.DONE


@cli.command("verify")
@store_option
@click.option("--read-all", is_flag=True, help="Read and check every byte, not only the listings.")
@progress_option
@json_option
def verify_command(store_folder: Path, passphrase_file: Path | None, read_all: bool, progress: str | None, as_json: bool) -> int:
    """Check that everything in a store is there and whole."""
    store = open_from_terminal(store_folder, passphrase_file)
    with output.steered(progress, as_json) as steering:
        report = verify(store, read_all, steering)
    if as_json:
        damage = [{"file": one.file, "what": one.what, "affects": affected_words(one)} for one in report.damage]
        print_json({"ok": report.ok, "packs": report.packs, "chunks": report.chunks, "bytes_read": report.bytes_read, "damage": damage})
    elif report.ok:
        say(
            f"All is well: {count_words(report.packs, 'pack')}, {count_words(report.chunks, 'chunk')}, {size_words(report.bytes_read)} read."
        )
        if not read_all:
            say("The contents of files were not read; --read-all does that.")
    else:
        for one in report.damage:
            say(f"{one.file}: {one.what}")
            for path in affected_words(one):
                say(f"    affects {path}")
    return output.DONE if report.ok else output.DAMAGED


@cli.command()
@click.option("--fresh", is_flag=True, help="Make the demo anew.")
@click.option("--no-window", is_flag=True, help="Only make it, and say where it is.")
def demo(fresh: bool, no_window: bool) -> int:
    """Open the window on ten weeks of a made-up workstation."""
    from good_tide.cli.demo import run_demo  # the generator is not needed by any other command

    return run_demo(this_workplace(), fresh, no_window)


@cli.command()
@click.option("--settings", type=click.Path(path_type=Path), help="Folder with the job's settings.")
@click.option("--job", default="", metavar="NAME", help="Show this job.")
@click.option("--place", default="", metavar="PLACE", help="timeline, coverage, stores, rhythm or journal.")
def window(settings: Path | None, job: str, place: str) -> int:
    """Open the window, or bring the one that is open to the front."""
    from good_tide.cli.launch import run_window  # Qt is loaded for the window only, in a process of its own

    return run_window(settings, job, place)


@cli.command()
def panel() -> int:
    """Show the icon in the desktop's panel: how everything stands, and what one wants from there."""
    from good_tide.cli.launch import run_panel  # as above

    return run_panel()


cli.add_command(disks_command)
cli.add_command(job_group)
cli.add_command(coverage_command)
cli.add_command(stand_in_group)
for command in (status_command, rhythm_command, pause_command, resume_command, run_due_command, eject_command, agent_group):
    cli.add_command(command)
for command in (ladder_command, thin_command, release_command, pin_command, sweep_command, room_command, purge_command):
    cli.add_command(command)
for command in (journal_command, report_command, mail_command, fleet_command):
    cli.add_command(command)
store_group.add_command(carry_command)
store_group.add_command(passphrase_command)
store_group.add_command(slots_command)


def main() -> None:
    """Run a command; every error a person or a disk can cause becomes a sentence and an exit code."""
    as_json = "--json" in sys.argv
    try:
        code = cli.main(standalone_mode=False)
    except GoodTideError as error:
        output.print_error(error, as_json)
        code = output.exit_code(error)
    except click.ClickException as error:
        error.show()
        code = output.WRONG_USAGE
    except (click.Abort, KeyboardInterrupt):
        code = output.STOPPED
    except BrokenPipeError:
        sys.stderr.close()
        code = output.STOPPED
    sys.exit(code if isinstance(code, int) else output.DONE)
