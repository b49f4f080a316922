"""Commands about disks, jobs and their coverage."""

from __future__ import annotations

import os
import shlex
import sys
from collections.abc import Mapping
from pathlib import Path

import click
import msgspec

from good_tide.cli import output
from good_tide.cli.job_list_commands import job_fields
from good_tide.cli.new_stores import furnished_job, new_passphrase, say_made, wanted_stores
from good_tide.cli.options import job_stores, json_option, passphrase_option, read_passphrase
from good_tide.cli.output import print_json, say
from good_tide.cli.parameters import JOB, PATH
from good_tide.core.errors import PersonError
from good_tide.core.job_values import differences, values, with_values, words_of
from good_tide.core.kinds import KINDS, Kind, extended
from good_tide.core.places import Level
from good_tide.core.rules import Rule, RuleError, parse_rule, parse_rules
from good_tide.core.settings import Job, StoreRef
from good_tide.core.translation import tr
from good_tide.core.words import count_words
from good_tide.operations.context import this_context
from good_tide.operations.jobs.changing import (
    change_coverage,
    change_ladder,
    drop_store,
    free_name,
    keep,
    remove,
    rename,
)
from good_tide.operations.jobs.leaving import (
    OF_JOBS,
    chosen,
    rename_rows,
    retire_rows,
    take_away,
    takeable,
    untouchable,
    what_stays,
)
from good_tide.operations.jobs.loading import apply_file, file_of
from good_tide.operations.jobs.making import checked_folders, own_history
from good_tide.operations.snapshot.replacing import let_left_go, replace_store
from good_tide.operations.snapshot.taking import Steps
from good_tide.operations.stores.job_stores import JobStores, NobodyToAsk
from good_tide.operations.stores.passphrases import kept_passphrase
from good_tide.operations.workplace import add_job, find_job, load_jobs

_LEVEL_SIGNS = {Level.GOOD: "good", Level.DOUBTFUL: "doubtful", Level.BAD: "bad"}


def _rules_from(file: Path | None, kinds: Mapping[str, Kind] = KINDS) -> tuple[Rule, ...]:
    if file is None:
        return ()
    try:
        return tuple(parse_rules(file.read_text(encoding="utf-8"), kinds))
    except (OSError, UnicodeDecodeError) as error:
        raise PersonError(
            tr("The rule file {file} cannot be read").format(file=file),
            tr("Check the path and that it is UTF-8 text"),
        ) from error
    except RuleError as error:
        raise RuleError(f"{file}: {error.what}", error.advice) from error


@click.command("add")
@click.argument("name")
@click.option(
    "--folder",
    "folders",
    multiple=True,
    required=True,
    metavar="P",
    help=tr("Folder to cover; may be given again."),
)
@click.option(
    "--store",
    "stores",
    multiple=True,
    required=True,
    metavar="DIR",
    help=tr("A store's folder; made if there is none. May be given again."),
)
@click.option(
    "--rules",
    "rules_file",
    type=PATH,
    metavar="FILE",
    help=tr("Rules of coverage, one a line."),
)
@passphrase_option
@click.option("--unencrypted", is_flag=True, help=tr("New stores can be read by anybody who has the disk."))
@click.option(
    "--hint", default="", help=tr("A hint for the passphrase of new stores. Everybody can read it.")
)
@click.option("--remember", is_flag=True, help=tr("Remember the passphrase in the desktop's key ring."))
@json_option
def add_command(
    name: str,
    folders: tuple[str, ...],
    stores: tuple[str, ...],
    rules_file: Path | None,
    passphrase_file: Path | None,
    unencrypted: bool,
    hint: str,
    remember: bool,
    as_json: bool,
) -> int:
    """Make a job. Its stores are made where there are none; recovery keys of new ones are printed once."""
    context = this_context()
    here = context.here
    kept, notes = checked_folders(folders)
    job = Job(name=name, folders=kept, stores=(), rules=tuple(rule.text for rule in _rules_from(rules_file)))
    job = own_history(job, load_jobs(here.settings), here.machine)
    wanted = wanted_stores(context, stores, unencrypted)
    passphrase = new_passphrase(passphrase_file)
    furnished = furnished_job(context, job, wanted, passphrase, hint)
    job = add_job(here.settings, furnished.job)
    return say_made(context, job, furnished, notes, passphrase if remember else None, as_json)


@click.command("show")
@click.argument("name", type=JOB)
@click.option("--settings", "all_settings", is_flag=True, help=tr("All its settings, by the keys of --set."))
@json_option
def show_command(name: str, all_settings: bool, as_json: bool) -> int:
    """One job: its folders, rules and stores; or all its settings."""
    context = this_context()
    job = find_job(context.here.settings, name)
    if all_settings:
        found = values(file_of(context, job))
        if as_json:
            print_json({"job": job.name, "settings": msgspec.to_builtins(found)})
        for key, value in () if as_json else found.items():
            say(f"{key} = {words_of(value)}")
        return output.DONE
    if as_json:
        print_json(job_fields(job))
        return output.DONE
    say(f"{job.name}\n\nFolders")
    for folder in job.folders:
        say(f"  {folder}")
    say(tr("Rules") if job.rules else tr("No rules: everything in these folders is in."))
    for number, rule in enumerate(job.rules, 1):
        say(f"  {number:>3}  {rule}")
    say(tr("Stores{words}").format(words=", " + tr("in turns") if job.store_use == "turns" else ""))
    for ref in job.stores:
        now = context.whereabouts.of(ref)
        say(f"  {ref.called}   {now.called if now is not None else 'away'}")
    return output.DONE


@click.command("change")
@click.argument("name", type=JOB)
@click.option(
    "--folder",
    "folders",
    multiple=True,
    metavar="P",
    help=tr("The folders to cover, in place of those before."),
)
@click.option(
    "--rules",
    "rules_file",
    type=PATH,
    metavar="FILE",
    help=tr("The rules, in place of those before."),
)
@click.option("--add-rule", "more", multiple=True, metavar="RULE", help=tr("A rule to put on top."))
@click.option(
    "--add-store", "stores", multiple=True, metavar="DIR", help=tr("A further store; made if there is none.")
)
@click.option(
    "--drop-store",
    "dropped",
    metavar="DIR",
    help=tr("A store that is no longer used; nothing on it is changed."),
)
@click.option(
    "--store-use",
    type=click.Choice(["both", "turns"]),
    help=tr("With several stores: both each time, or in turns."),
)
@click.option(
    "--precious",
    multiple=True,
    metavar="PATTERN",
    help=tr("Files whose every version is kept, in place of those before; “none”."),
)
@click.option("--rename", "rename_to", metavar="NEW", help=tr("Another name for the job."))
@click.option(
    "--set",
    "assignments",
    multiple=True,
    metavar="KEY=VALUE",
    help=tr(
        "Any other setting, by its key in a job file, such as reporting.when=weekly; may be given again."
    ),
)
@passphrase_option
@click.option("--unencrypted", is_flag=True, help=tr("New stores can be read by anybody who has the disk."))
@click.option("--hint", default="", help=tr("A hint for the passphrase of new stores."))
@json_option
def change_command(
    name: str,
    folders: tuple[str, ...],
    rules_file: Path | None,
    more: tuple[str, ...],
    stores: tuple[str, ...],
    dropped: str | None,
    store_use: str | None,
    precious: tuple[str, ...],
    rename_to: str | None,
    assignments: tuple[str, ...],
    passphrase_file: Path | None,
    unencrypted: bool,
    hint: str,
    as_json: bool,
) -> int:
    """Change a job, and say what that changed. What is not named stays as it is."""
    context = this_context()
    before = job = find_job(context.here.settings, name)
    as_it_was = file_of(context, before)
    if assignments:
        job = apply_file(context, job, with_values(as_it_was, assignments))
    if rename_to:
        free_name(rename_to, before, load_jobs(context.here.settings))
    notes: list[str] = []
    covered, rules = job.folders, job.rules
    set_before = covered, rules
    if folders:
        covered, notes = checked_folders(folders)
    if rules_file is not None:
        rules = tuple(rule.text for rule in _rules_from(rules_file, extended(job.kinds)))
    rules = (*(parse_rule(line, extended(job.kinds)).text for line in more), *rules)
    named = () if precious == ("none",) else precious
    patterns = tuple(parse_rule(f'exclude path "{pattern}"').path for pattern in named)
    if store_use is not None:
        job = msgspec.convert({**msgspec.to_builtins(job), "store_use": store_use}, Job)
    if dropped is not None:
        job = drop_store(context, job, _ref_in(job, os.path.abspath(dropped)), bool(stores))
    furnished = furnished_job(
        context, job, wanted_stores(context, stores, unencrypted), new_passphrase(passphrase_file), hint
    )
    job = keep(context, furnished.job)
    if (covered, rules) != set_before:
        job = change_coverage(context, job, covered, rules)
    if precious:
        job = change_ladder(context, job, job.ladder, job.agreed == job.ladder, patterns)
    if rename_to and rename_to != job.name:
        job = rename(context, job, rename_to)
    if job.name != before.name:
        rename_rows(context, JobStores(context, job, NobodyToAsk()), before.name)
    changes = differences(as_it_was, file_of(context, job))
    return say_made(context, job, furnished, notes, None, as_json, changes)


def _ref_in(job: Job, folder: str) -> StoreRef:
    """The job's store in a folder.

    Raises:
        PersonError: it has none there.
    """
    found = next((ref for ref in job.stores if ref.path == folder), None)
    if found is None:
        raise PersonError(
            tr("The job has no store in {folder}").format(folder=folder),
            tr("It has {stores}").format(stores=", ".join(ref.path for ref in job.stores)),
        )
    return found


@click.command("replace-store")
@click.argument("name", type=JOB)
@click.argument("directory")
@passphrase_option
@click.option("--hint", default="", help=tr("A hint for the passphrase of a new store."))
@click.option("--let-go", is_flag=True, help=tr("Forget what could not be carried over."))
@json_option
def replace_store_command(
    name: str, directory: str, passphrase_file: Path | None, hint: str, let_go: bool, as_json: bool
) -> int:
    """Go on with what is in the place of a store now, when its disk was replaced or emptied.

    A new store is made there if there is none. Snapshots that wait on this machine for the old disk are
    carried over; what cannot be stays here, and is tried again when this is run again.
    """
    context = this_context()
    job = find_job(context.here.settings, name)
    ref = _ref_in(job, os.path.abspath(directory))
    if let_go:
        count = let_left_go(context, job, ref)
        if as_json:
            print_json({"job": job.name, "let_go": count})
        else:
            say(
                tr("{count} that waited for the old disk: let go.").format(
                    count=count_words(count, "snapshot")
                )
            )
        return output.DONE
    passphrase = read_passphrase(passphrase_file)
    if passphrase is None and ref.encrypted:
        passphrase = kept_passphrase(job, ref.store, context.ring)
    if passphrase is None and ref.encrypted and sys.stdin.isatty():
        passphrase = click.prompt(tr("Passphrase of the old store"), hide_input=True, err=True)
    with output.steered(None, as_json) as steering:
        done = replace_store(
            context,
            job,
            ref,
            passphrase,
            lambda job: job_stores(context, job, passphrase_file),
            Steps(control=steering, warn=output.say_noticed),
            hint,
        )
    left = [{"snapshot": one, "why": why} for one, why in done.left]
    if as_json:
        print_json(
            {"job": done.job.name, "recovery_key": done.recovery_key, "carried": done.arrived, "left": left}
        )
        return output.WITH_GAPS if left else output.DONE
    if done.recovery_key is not None:
        say(
            tr("Recovery key:  {recovery_key}\n\nCopy it by hand and keep it away from this disk.").format(
                recovery_key=done.recovery_key
            )
        )
    say(
        tr("{arrived} that waited for the old disk came into the new store.").format(
            arrived=count_words(done.arrived, "snapshot")
        )
    )
    for one, why in done.left:
        say(tr("Not carried over, and kept on this machine: {one}: {why}").format(one=one[:12], why=why))
    return output.WITH_GAPS if left else output.DONE


@click.command("remove")
@click.argument("name", type=JOB)
@click.option(
    "--take",
    "takes",
    multiple=True,
    type=click.Choice([*(one.value for one in OF_JOBS), "all"]),
    help=tr("Take this away with it, for good; may be given again. Stores, and what other jobs need, stay."),
)
@json_option
def remove_command(name: str, takes: tuple[str, ...], as_json: bool) -> int:
    """Remove a job, and say what stays where: its stores and their snapshots, what waits for them, what is
    known of them here."""
    context = this_context()
    job = find_job(context.here.settings, name)
    missed = retire_rows(context, JobStores(context, job, NobodyToAsk()))
    remove(context, job)
    stays = what_stays(context, job)
    taken = chosen(takeable(context, job, stays), takes)
    take_away(taken, untouchable(context, job))
    stays = [one for one in stays if one not in taken]
    if as_json:
        print_json(
            {
                "removed": job.name,
                "stays": [one._asdict() for one in stays],
                "taken": [one._asdict() for one in taken],
            }
        )
    else:
        say(tr("The job {name} was removed.").format(name=job.name))
        for one in taken:
            say(tr("Deleted: {path}: {what}").format(path=one.path, what=one.what))
        say(tr("Where they are, there stay:"))
        for one in stays:
            say(f"  {one.path}: {one.what}")
        for ref in missed:
            name = shlex.quote(context.machine_of(job).name)
            say(
                tr(
                    "The store {called} was not told. So that it does not call the job late later on:"
                    " good-tide fleet {path} --retire {name} --job {name_2}"
                ).format(
                    called=ref.called,
                    path=shlex.quote(ref.path or ref.called),
                    name=name,
                    name_2=shlex.quote(job.name),
                )
            )
    return output.DONE
