"""Commands about disks, jobs and their coverage."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click
import msgspec

from good_tide.cli import output
from good_tide.cli.options import json_option, passphrase_option, read_passphrase
from good_tide.cli.output import print_json, say, table
from good_tide.core.errors import PersonError, WrongPassphraseError
from good_tide.core.identifiers import StoreId
from good_tide.core.jobfile import job_file_text, parse_job_file
from good_tide.core.places import Level, Wanted, check_place
from good_tide.core.rules import Rule, RuleError, parse_rule, parse_rules
from good_tide.core.settings import Job, StoreRef
from good_tide.core.words import size_words
from good_tide.operations.context import Context, this_context
from good_tide.operations.coverage.selecting import home_folder
from good_tide.operations.jobs.changing import (
    change_coverage,
    change_ladder,
    drop_store,
    free_name,
    keep,
    remove,
    rename,
)
from good_tide.operations.jobs.making import checked_folders, job_of_file, own_history
from good_tide.operations.stores.disks import devices_under, known_store_ids, look_at, store_ref
from good_tide.operations.stores.furnishing import Furnished, WantedStore, furnish
from good_tide.operations.stores.furnishing import remember as remember_passphrase
from good_tide.operations.stores.job_stores import JobStores
from good_tide.operations.stores.opening import Store, locked_hint, store_place
from good_tide.operations.workplace import add_job, find_job, load_jobs, this_workplace
from good_tide.system.user_folders import user_folders

_LEVEL_SIGNS = {Level.GOOD: "good", Level.DOUBTFUL: "doubtful", Level.BAD: "bad"}


@click.command("disks")
@json_option
def disks_command(as_json: bool) -> int:
    """The disks and shares that are mounted, and what speaks for and against keeping a store on each."""
    context = this_context()
    disks, jobs = context.disks, load_jobs(context.here.settings)
    covered = [folder for job in jobs for folder in job.folders] or [home_folder()]
    wanted = Wanted(devices=devices_under(disks, covered))
    found = look_at(disks, known_store_ids(jobs, context.whereabouts))
    if as_json:
        rows = []
        for disk in found:
            checks = [
                {"level": check.level.value, "what": check.what, "way_out": check.way_out}
                for check in check_place(disk, wanted)
            ]
            rows.append(
                {
                    "id": disk.id,
                    "name": disk.name,
                    "kind": disk.kind,
                    "file_system": disk.file_system,
                    "path": disk.path,
                    "total": disk.total,
                    "free": disk.free,
                    "writable": disk.writable and not disk.read_only,
                    "store": disk.stores[0].path if disk.stores else None,
                    "checks": checks,
                }
            )
        print_json({"disks": rows})
        return output.DONE
    for disk in found:
        room = f"{size_words(disk.free)} free of {size_words(disk.total)}"
        room = "not mounted" if not disk.mounted else room if disk.answers else "does not answer"
        say(f"{disk.name}   {disk.kind}, {disk.file_system}, {room}   {disk.path}")
        for check in check_place(disk, wanted):
            say(
                f"    {_LEVEL_SIGNS[check.level]:<9}"
                f" {check.what}{'. ' + check.way_out if check.way_out else ''}."
            )
    if not found:
        say("No disk is mounted that could take a store.")
    return output.DONE


@click.group("job")
def job_group() -> None:
    """Make, change, save and load jobs: what is covered, and where its stores are."""


def _rules_from(file: Path | None) -> tuple[Rule, ...]:
    if file is None:
        return ()
    try:
        return tuple(parse_rules(file.read_text(encoding="utf-8")))
    except (OSError, UnicodeDecodeError) as error:
        raise PersonError(
            f"The rule file {file} cannot be read", "Check the path and that it is UTF-8 text"
        ) from error
    except RuleError as error:
        raise RuleError(f"{file}: {error.what}", error.advice) from error


def _new_passphrase(file: Path | None) -> Callable[[], str | None]:
    """Gives the passphrase for new stores: from a file, or asked for on a terminal, twice and once only."""
    known: list[str] = []

    def give() -> str | None:
        if not known:
            words = read_passphrase(file)
            if words is None and sys.stdin.isatty():
                words = click.prompt(
                    "Passphrase for the new store",
                    hide_input=True,
                    confirmation_prompt="The same again",
                    err=True,
                )
            if words is None:
                return None
            known.append(words)
        return known[0]

    return give


@job_group.command("add")
@click.argument("name")
@click.option(
    "--folder",
    "folders",
    multiple=True,
    required=True,
    metavar="P",
    help="Folder to cover; may be given again.",
)
@click.option(
    "--store",
    "stores",
    multiple=True,
    required=True,
    metavar="DIR",
    help="A store's folder; made if there is none. May be given again.",
)
@click.option(
    "--rules",
    "rules_file",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Rules of coverage, one a line.",
)
@passphrase_option
@click.option("--unencrypted", is_flag=True, help="New stores can be read by anybody who has the disk.")
@click.option("--hint", default="", help="A hint for the passphrase of new stores. Everybody can read it.")
@click.option("--remember", is_flag=True, help="Remember the passphrase in the desktop's key ring.")
@json_option
def job_add(
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
    wanted = _wanted_stores(context, stores, unencrypted)
    furnished = _furnished(context, job, wanted, passphrase_file, hint)
    job = add_job(here.settings, furnished.job)
    return _say_made(context, job, furnished, notes, passphrase_file if remember else None, as_json)


def _wanted_stores(context: Context, stores: tuple[str, ...], unencrypted: bool) -> list[WantedStore]:
    """Stores in further folders."""
    places = [store_place(named) for named in stores]
    return [WantedStore(store_ref(context.disks, where), where, not unencrypted) for where in places]


def _furnished(
    context: Context, job: Job, wanted: list[WantedStore], passphrase_file: Path | None, hint: str
) -> Furnished:
    """A job with the stores that are wanted."""
    passphrase = _new_passphrase(passphrase_file)

    def twin(first: StoreRef) -> Store | None:
        stores = JobStores(context, msgspec.structs.replace(job, stores=(first,)), _First(passphrase))
        try:
            return stores.store(first) if first in stores.here() else None
        except WrongPassphraseError:
            return None

    return furnish(context, job, wanted, passphrase, twin, hint)


class _First:
    """The passphrase for new stores is tried on the job's first one where nothing else is known of it."""

    def __init__(self, passphrase: Callable[[], str | None]) -> None:
        self._passphrase = passphrase

    def known(self, store: StoreId) -> str | None:
        return None

    def ask(self, where: str, hint: str | None) -> str | None:
        return self._passphrase()

    def unreadable(self, error: PersonError) -> None:
        raise error


def _say_made(
    context: Context, job: Job, furnished: Furnished, notes: list[str], remembered: Path | None, as_json: bool
) -> int:
    made, words = furnished.made, read_passphrase(remembered)
    notes = notes + furnished.notes
    if words is not None:
        notes = notes + remember_passphrase(context, job, made, words)
    if as_json:
        stores = [
            {"path": one.where.called, "made": one.made, "recovery_key": one.recovery_key} for one in made
        ]
        print_json(
            {
                "job": job.name,
                "folders": list(job.folders),
                "stores": stores,
                "rules": list(job.rules),
                "notes": notes,
            }
        )
        return output.DONE
    say(f"The job {job.name} covers {', '.join(job.folders)}.")
    for one in made:
        say(f"{'Made a store' if one.made else 'Uses the store'} in {one.where.called}.")
        if one.recovery_key:
            say(f"\nRecovery key:  {one.recovery_key}\n")
            say("Copy it by hand and keep it away from this disk. It is not shown again.")
    for note in notes:
        say(f"Note: {note}.")
    return output.DONE


def _job_fields(job: Job) -> dict[str, Any]:
    return {
        "name": job.name,
        "folders": list(job.folders),
        "rules": list(job.rules),
        "stores": [{"name": ref.name, "path": ref.path, "disk": ref.disk or None} for ref in job.stores],
        "store_use": job.store_use,
        "rhythm": job.rhythm.words(),
        "precious": list(job.precious),
    }


@job_group.command("list")
@json_option
def job_list(as_json: bool) -> int:
    """All jobs of this person on this machine."""
    jobs = load_jobs(this_workplace().settings)
    if as_json:
        print_json({"jobs": [_job_fields(job) for job in jobs]})
    elif jobs:
        table(
            ["Job", "Folders", "Rules", "Stores"],
            [
                [
                    job.name,
                    str(len(job.folders)),
                    str(len(job.rules)),
                    ", ".join(ref.name or ref.path for ref in job.stores),
                ]
                for job in jobs
            ],
            right=(1, 2),
        )
    else:
        say("There is no job yet. “good-tide job add” makes one.")
    return output.DONE


@job_group.command("show")
@click.argument("name")
@json_option
def job_show(name: str, as_json: bool) -> int:
    """One job: its folders, rules and stores."""
    context = this_context()
    job = find_job(context.here.settings, name)
    if as_json:
        print_json(_job_fields(job))
        return output.DONE
    say(f"{job.name}\n\nFolders")
    for folder in job.folders:
        say(f"  {folder}")
    say("Rules" if job.rules else "No rules: everything in these folders is in.")
    for number, rule in enumerate(job.rules, 1):
        say(f"  {number:>3}  {rule}")
    say(f"Stores{', in turns' if job.store_use == 'turns' else ''}")
    for ref in job.stores:
        now = context.whereabouts.of(ref)
        say(f"  {ref.called}   {now.called if now is not None else 'away'}")
    return output.DONE


@job_group.command("change")
@click.argument("name")
@click.option(
    "--folder", "folders", multiple=True, metavar="P", help="The folders to cover, in place of those before."
)
@click.option(
    "--rules",
    "rules_file",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="The rules, in place of those before.",
)
@click.option("--add-rule", "more", multiple=True, metavar="RULE", help="A rule to put on top.")
@click.option(
    "--add-store", "stores", multiple=True, metavar="DIR", help="A further store; made if there is none."
)
@click.option(
    "--drop-store", "dropped", metavar="DIR", help="A store that is no longer used; nothing on it is changed."
)
@click.option(
    "--store-use",
    type=click.Choice(["both", "turns"]),
    help="With several stores: both each time, or in turns.",
)
@click.option(
    "--precious",
    multiple=True,
    metavar="PATTERN",
    help="Files whose every version is kept, in place of those before; “none”.",
)
@click.option("--rename", "rename_to", metavar="NEW", help="Another name for the job.")
@passphrase_option
@click.option("--unencrypted", is_flag=True, help="New stores can be read by anybody who has the disk.")
@click.option("--hint", default="", help="A hint for the passphrase of new stores.")
@json_option
def job_change(
    name: str,
    folders: tuple[str, ...],
    rules_file: Path | None,
    more: tuple[str, ...],
    stores: tuple[str, ...],
    dropped: str | None,
    store_use: str | None,
    precious: tuple[str, ...],
    rename_to: str | None,
    passphrase_file: Path | None,
    unencrypted: bool,
    hint: str,
    as_json: bool,
) -> int:
    """Change a job. What is not named stays as it is."""
    context = this_context()
    before = job = find_job(context.here.settings, name)
    if rename_to:
        free_name(rename_to, before, load_jobs(context.here.settings))
    notes: list[str] = []
    covered, rules = job.folders, job.rules
    if folders:
        covered, notes = checked_folders(folders)
    if rules_file is not None:
        rules = tuple(rule.text for rule in _rules_from(rules_file))
    rules = (*(parse_rule(line).text for line in more), *rules)
    named = () if precious == ("none",) else precious
    patterns = tuple(parse_rule(f'exclude path "{pattern}"').path for pattern in named)
    if store_use is not None:
        job = msgspec.convert({**msgspec.to_builtins(job), "store_use": store_use}, Job)
    if dropped is not None:
        job = drop_store(context, job, _ref_in(job, os.path.abspath(dropped)), bool(stores))
    furnished = _furnished(context, job, _wanted_stores(context, stores, unencrypted), passphrase_file, hint)
    job = keep(context, furnished.job)
    if (covered, rules) != (before.folders, before.rules):
        job = change_coverage(context, job, covered, rules)
    if precious:
        job = change_ladder(context, job, job.ladder, job.agreed == job.ladder, patterns)
    if rename_to and rename_to != before.name:
        job = rename(context, job, rename_to)
    return _say_made(context, job, furnished, notes, None, as_json)


def _ref_in(job: Job, folder: str) -> StoreRef:
    """The job's store in a folder.

    Raises:
        PersonError: it has none there.
    """
    found = next((ref for ref in job.stores if ref.path == folder), None)
    if found is None:
        raise PersonError(
            f"The job has no store in {folder}", f"It has {', '.join(ref.path for ref in job.stores)}"
        )
    return found


@job_group.command("remove")
@click.argument("name")
@json_option
def job_remove(name: str, as_json: bool) -> int:
    """Remove a job. Its stores and their snapshots stay as they are."""
    context = this_context()
    job = find_job(context.here.settings, name)
    remove(context, job)
    if as_json:
        print_json({"removed": job.name})
    else:
        say(
            f"The job {job.name} was removed. Its stores stay as they are:"
            f" {', '.join(ref.path for ref in job.stores)}."
        )
    return output.DONE


@job_group.command("save")
@click.argument("name")
@click.argument("file", type=click.Path(path_type=Path))
@json_option
def job_save(name: str, file: Path, as_json: bool) -> int:
    """Save a job to a TOML file, to be used on the next machine."""
    context = this_context()
    job, home = find_job(context.here.settings, name), home_folder()
    text = job_file_text(job, _encrypted(context, job), home, user_folders(home))
    try:
        file.write_text(text, encoding="utf-8")
    except OSError as error:
        raise PersonError(
            f"{file} cannot be written ({os.strerror(error.errno or 0)})", "Choose another file"
        ) from error
    if as_json:
        print_json({"job": job.name, "file": str(file)})
    else:
        say(f"The job {job.name} was saved to {file}.")
    return output.DONE


def _encrypted(context: Context, job: Job) -> dict[str, bool]:
    found = {}
    for ref in job.stores:
        where = context.whereabouts.of(ref)
        if where is not None:
            found[ref.path] = locked_hint(where) is not None
    return found


@job_group.command("load")
@click.argument("file", type=click.Path(path_type=Path))
@passphrase_option
@click.option("--hint", default="", help="A hint for the passphrase of new stores.")
@json_option
def job_load(file: Path, passphrase_file: Path | None, hint: str, as_json: bool) -> int:
    """Make a job from a TOML file, with its stores where there are none yet; unattended with
    --passphrase-file."""
    context = this_context()
    here = context.here
    try:
        parsed = parse_job_file(file.read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise PersonError(
            f"The job file {file} cannot be read", "Check the path and that it is UTF-8 text"
        ) from error
    if not parsed.store:
        raise PersonError(f"{file} names no store", "Add one to it, or use “good-tide job add” with --rules")
    job, wanted, notes = job_of_file(parsed, here.machine, context.whereabouts)
    job = own_history(job, load_jobs(here.settings), here.machine)
    furnished = _furnished(context, job, wanted, passphrase_file, hint)
    return _say_made(context, add_job(here.settings, furnished.job), furnished, notes, None, as_json)
