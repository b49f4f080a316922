"""Changing a job: each change is checked, kept in its settings and noted."""

from __future__ import annotations

import msgspec

from good_tide.core.errors import PersonError
from good_tide.core.given_words import checked_name
from good_tide.core.kinds import checked_kinds, extended
from good_tide.core.ladder import Ladder, words
from good_tide.core.records import Machine
from good_tide.core.rhythm import Rhythm
from good_tide.core.rules import parse_rule
from good_tide.core.settings import Holding, Job, LineLimit, Noise, Reporting, Room, StoreRef, StoreUse
from good_tide.core.translation import tr
from good_tide.operations.context import Context
from good_tide.operations.jobs.making import checked_folders
from good_tide.operations.workplace import load_jobs
from good_tide.system import jobs


def keep(context: Context, job: Job) -> Job:
    """Keep a changed job.

    Raises:
        PersonError: a rule or the rhythm cannot be read, or another job has its name.
    """
    job.parsed_rules()
    job.rhythm.check()
    return jobs.save_job(context.here.settings, job)


def change_coverage(context: Context, job: Job, folders: tuple[str, ...], rules: tuple[str, ...]) -> Job:
    """Other folders and rules.

    Raises:
        PersonError: a folder is not there, or a rule cannot be read.
    """
    checked, _ = checked_folders(folders)
    changed = keep(context, msgspec.structs.replace(job, folders=checked, rules=rules))
    new = [tr("New rule: {rule}").format(rule=rule) for rule in rules if rule not in job.rules]
    gone = [tr("Rule taken away: {rule}").format(rule=rule) for rule in job.rules if rule not in rules]
    if (changed.folders, changed.rules) != (job.folders, job.rules):
        context.journal.add("good", changed, tr("Coverage was changed"), (*new, *gone))
    return changed


def change_kinds(context: Context, job: Job, kinds: dict[str, tuple[str, ...]]) -> Job:
    """Other additions to the kinds of files: further endings, and kinds of the job's own.

    Raises:
        PersonError: a name or an ending is none, or a rule needs a kind that is to go.
    """
    checked_kinds(kinds)
    there = extended(kinds)
    for line in job.rules:
        kind = parse_rule(line, extended(job.kinds)).kind
        if kind and kind not in there:
            raise PersonError(
                tr("The rule “{line}” needs the kind “{kind}”").format(line=line, kind=kind),
                tr("Take the rule away first"),
            )
    changed = keep(context, msgspec.structs.replace(job, kinds=kinds))
    if kinds != job.kinds:
        told = [f"{name}: {', '.join(f'.{one}' for one in given)}" for name, given in kinds.items()]
        context.journal.add("good", changed, tr("The kinds of files were changed"), tuple(told))
    return changed


def change_rhythm(
    context: Context,
    job: Job,
    rhythm: Rhythm,
    holding: Holding | None = None,
    noise: Noise | None = None,
    reporting: Reporting | None = None,
    line: LineLimit | None = None,
) -> Job:
    """Another rhythm, and what goes with it; None: as it is.

    Raises:
        PersonError: the rhythm, or the hours of the line's limit, cannot be understood.
    """
    if line is not None:
        line.check()
    changed = keep(
        context,
        msgspec.structs.replace(
            job,
            rhythm=rhythm,
            holding=holding or job.holding,
            noise=noise or job.noise,
            reporting=reporting or job.reporting,
            line=job.line if line is None else line,
        ),
    )
    if rhythm != job.rhythm:
        before = (tr("Before: {words}").format(words=job.rhythm.words()),)
        context.journal.add(
            "good", changed, tr("Snapshots are taken {words}").format(words=rhythm.words()), before
        )
    return changed


def change_ladder(
    context: Context, job: Job, ladder: Ladder, agreed: bool = False, precious: tuple[str, ...] | None = None
) -> Job:
    """Another ladder; ``agreed``: a person saw what it releases. ``precious``: patterns of files whose every
    version stays; None: as they are.

    Raises:
        PersonError: it makes no sense.
    """
    ladder.check()
    patterns = job.precious if precious is None else precious
    for pattern in patterns:
        parse_rule(f'exclude path "{pattern}"')
    last = ladder if agreed else job.agreed
    changed = keep(context, msgspec.structs.replace(job, ladder=ladder, agreed=last, precious=patterns))
    if ladder != job.ladder:
        before = (tr("Before: by the ladder: {words}").format(words=words(job.ladder)),)
        context.journal.add(
            "good", changed, tr("History is kept by the ladder: {words}").format(words=words(ladder)), before
        )
    if patterns != job.precious:
        said = (
            tr("Every version stays of {patterns}").format(patterns=", ".join(patterns))
            if patterns
            else tr("No file is precious any more")
        )
        context.journal.add("good", changed, said)
    return changed


def change_room(context: Context, job: Job, room: Room) -> Job:
    """Other limits for what the stores of a job may take."""
    changed = keep(context, msgspec.structs.replace(job, room=room))
    if room != job.room:
        context.journal.add("good", changed, tr("The room that the stores may take was changed"))
    return changed


def use_stores(context: Context, job: Job, use: StoreUse) -> Job:
    """Whether snapshots go to all stores or to one in turn."""
    return keep(context, msgspec.structs.replace(job, store_use=use))


def drop_store(context: Context, job: Job, ref: StoreRef, others_come: bool = False) -> Job:
    """Take a store out of a job; the store itself stays as it is.

    :param others_come: further stores are added at once.

    Raises:
        PersonError: it is the only one.
    """
    kept = tuple(one for one in job.stores if one != ref)
    if not kept and not others_come:
        raise PersonError(tr("This is the job's only store"), tr("Add another one first"))
    what = tr("The store in {path} is no longer used by this job; nothing on it was changed").format(
        path=ref.path
    )
    context.journal.add("note", job, what)
    return msgspec.structs.replace(job, stores=kept)


def rename(context: Context, job: Job, name: str) -> Job:
    """Another name: the job's history and what is noted of it go on.

    Raises:
        PersonError: another job has that name.
    """
    free_name(name, job, load_jobs(context.here.settings))
    machine = job.machine
    if machine is not None and machine.name.endswith(f" · {job.name}"):
        machine = Machine(machine.id, f"{machine.name.removesuffix(job.name)}{name}")
    former = (*(one for one in job.former if one != name), job.name)
    changed = keep(context, msgspec.structs.replace(job, name=name, machine=machine, former=former))
    context.journal.rename(changed.id, name)
    context.journal.add(
        "note",
        changed,
        tr("The job {name} is called {name_2} from now on").format(name=job.name, name_2=name),
    )
    return changed


def remove(context: Context, job: Job) -> None:
    """Take a job away; its stores and their snapshots stay as they are."""
    jobs.remove_job(context.here.settings, job.id)
    context.journal.add(
        "note", job, tr("The job {name} was removed; its stores stay as they are").format(name=job.name)
    )


def free_name(name: str, job: Job | None, others: list[Job]) -> None:
    """Refuse a name that another job has.

    :param job: the one that is to have it, if there is one yet.

    Raises:
        PersonError: another has it, or it is none.
    """
    checked_name(name)
    if any(other.name.casefold() == name.casefold() for other in others if job is None or other.id != job.id):
        raise jobs.taken(name)
