"""Commands that check whether everything could be brought back, and that mend what is damaged."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import click

from good_tide.cli import output
from good_tide.cli.options import (
    StoreCommand,
    job_stores,
    json_option,
    opened,
    opened_named,
    passphrase_option,
    progress_option,
    store_argument,
)
from good_tide.cli.output import print_json, say
from good_tide.cli.parameters import STORE
from good_tide.core.damage import Damage
from good_tide.core.health import proven_words
from good_tide.core.identifiers import SnapshotId
from good_tide.core.translation import tr
from good_tide.core.words import count_words, number_words, size_words, time_words
from good_tide.operations.context import Context, this_context
from good_tide.operations.integrity import repairing
from good_tide.operations.integrity.proving import proof_words, prove
from good_tide.operations.integrity.repairing import mended_words, repair_store, twin_source, verify_store
from good_tide.operations.stores.opened import all_snapshots, id_of
from good_tide.operations.stores.opening import Store, StorePlace, store_place
from good_tide.operations.stores.users import users_of

_SNAPSHOTS_SAID = 5


@click.command("verify", cls=StoreCommand)
@store_argument
@click.option("--read-all", is_flag=True, help=tr("Read and check every byte, not only the listings."))
@progress_option
@json_option
def verify_command(
    where: StorePlace, passphrase_file: Path | None, read_all: bool, progress: str | None, as_json: bool
) -> int:
    """Check that everything in a store is there and whole."""
    context = this_context()
    store = opened(context, where, passphrase_file)
    with output.steered(progress, as_json) as steering:
        report = verify_store(context, store, steering, read_all)
    if as_json:
        print_json(
            {
                "ok": report.ok,
                "packs": report.packs,
                "chunks": report.chunks,
                "bytes_read": report.bytes_read,
                "damage": [_damage_fields(one) for one in report.damage],
                "notes": report.notes,
                "not_read": report.not_read,
                "mended": report.mended,
            }
        )
        return output.DONE if report.ok else output.DAMAGED
    if report.ok:
        say(
            tr("All is well: {packs}, {chunks}, {bytes_read} read.").format(
                packs=count_words(report.packs, "pack"),
                chunks=count_words(report.chunks, "chunk"),
                bytes_read=size_words(report.bytes_read),
            )
        )
    else:
        _say_damage(store, report.damage)
    for file in report.mended:
        say(tr("Put right: {file}").format(file=file))
    for note in report.notes:
        say(tr("Note: {note}.").format(note=note))
    if report.not_read:
        say(tr("Not looked at: {not_read}.").format(not_read=report.not_read))
    return output.DONE if report.ok else output.DAMAGED


@click.command("repair", cls=StoreCommand)
@click.argument("named", metavar="STORE", type=STORE)
@click.option(
    "--from",
    "twins",
    multiple=True,
    metavar="DIR",
    help=tr("A twin of the store that may have what it lost; may be given again."),
)
@click.option(
    "--known-only", is_flag=True, help=tr("Mend what is known to be damaged, without reading every byte.")
)
@click.option(
    "--accept-loss", is_flag=True, help=tr("Take notice of what is lost for good: it is no trouble any more.")
)
@passphrase_option
@progress_option
@json_option
def repair_command(
    named: str,
    twins: tuple[str, ...],
    known_only: bool,
    accept_loss: bool,
    passphrase_file: Path | None,
    progress: str | None,
    as_json: bool,
) -> int:
    """Mend a store, given by its folder or the name of its disk.

    What it has lost is brought back from what is left of it, from the other stores and the holding areas of
    the jobs that use it, from --from, and from the files as they are now. What is nowhere is named.
    """
    context = this_context()
    store = opened_named(context, named, passphrase_file)
    if accept_loss:
        return _accept(context, store, as_json)
    given = [twin_source(twin, opened(context, store_place(twin), passphrase_file)) for twin in twins]
    with output.steered(progress, as_json) as steering:
        report = repair_store(
            context,
            store,
            given,
            lambda job: job_stores(context, job, passphrase_file),
            steering,
            read_all=not known_only,
        )
    if as_json:
        print_json(
            {
                "whole": report.whole,
                "pieces": report.chunks,
                "files": report.files,
                "lost": [_damage_fields(one) for one in report.lost],
                "notes": report.notes,
            }
        )
        return output.DONE if report.whole else output.WITH_GAPS
    for words in mended_words(report):
        say(tr("Mended: {words}.").format(words=words))
    if report.lost:
        say(tr("Not mended; everything else in the store can be used:"))
        _say_damage(store, report.lost)
    elif not report.mended:
        say(tr("Nothing was damaged."))
    else:
        say(tr("Nothing is lost."))
    for note in report.notes:
        say(tr("Note: {note}.").format(note=note))
    return output.DONE if report.whole else output.WITH_GAPS


@click.command("prove", cls=StoreCommand)
@click.argument("named", metavar="STORE", type=STORE)
@click.option(
    "--all", "everything", is_flag=True, help=tr("Read every byte back, not only the portion of a day.")
)
@passphrase_option
@progress_option
@json_option
def prove_command(
    named: str, everything: bool, passphrase_file: Path | None, progress: str | None, as_json: bool
) -> int:
    """Read a portion of a store back, and restore files by lot for a trial.

    The agent does both by itself: all is read within the time that is set in the job, files are restored each
    week.
    """
    context = this_context()
    store = opened_named(context, named, passphrase_file)
    days = next((job.read_back_days for job, _ in users_of(context, store) if job.read_back_days), 30)
    with output.steered(progress, as_json) as steering:
        proof = prove(
            context,
            store,
            days,
            lambda job: job_stores(context, job, passphrase_file),
            steering,
            by_hand=True,
            everything=everything,
        )
    health = context.health.of(id_of(store))
    portion, drill = proof.portion, proof.drill
    if as_json:
        print_json(
            {
                "well": proof.well,
                "packs": portion.packs if portion is not None else 0,
                "bytes": portion.bytes if portion is not None else 0,
                "mended": portion.mended if portion is not None else 0,
                "files": drill.files if drill is not None else 0,
                "failed": [{"path": path, "why": why} for path, why in drill.failed]
                if drill is not None
                else [],
                "proven": proven_words(health, context.clock.now()),
            }
        )
        return output.DONE if proof.well else output.DAMAGED
    for words in proof_words(proof):
        say(f"{words}.")
    for path, why in drill.failed if drill is not None else ():
        say(f"    {path}: {why}")
    if proof.repair is not None:
        for words in mended_words(proof.repair):
            say(tr("Mended: {words}.").format(words=words))
        _say_damage(store, proof.repair.lost)
    say(proven_words(health, context.clock.now()))
    return output.DONE if proof.well else output.DAMAGED


def _accept(context: Context, store: Store, as_json: bool) -> int:
    done = repairing.accept_loss(context, store)
    if as_json:
        print_json({"accepted": done})
    else:
        say(tr("What is lost is no trouble any more.") if done else tr("Nothing is known to be lost."))
    return output.DONE


def _damage_fields(one: Damage) -> dict[str, object]:
    return {
        "file": one.file,
        "what": one.what,
        "harm": one.harm.value,
        "advice": one.harm.advice,
        "affects": one.paths,
        "versions": one.versions,
        "snapshots": one.snapshots,
    }


def _say_damage(store: Store, damage: list[Damage]) -> None:
    times = {one.id: one.time for one in all_snapshots(store)[0]}
    for one in damage:
        say(f"{one.file}: {one.what}")
        for path in one.paths:
            say("    " + tr("affects {path}").format(path=path))
        if one.snapshots:
            versions = (
                tr("{versions} in").format(versions=count_words(one.versions, "version")) + " "
                if one.versions
                else ""
            )
            say(
                f"    {versions}{count_words(len(one.snapshots), 'snapshot')}:"
                f" {_moments(one.snapshots, times)}"
            )
    for advice in dict.fromkeys(one.harm.advice for one in damage):
        say(f"{advice}.")


def _moments(snapshots: list[SnapshotId], times: Mapping[SnapshotId, int]) -> str:
    now = this_context().clock.now()
    words = [time_words(times[one], now) if one in times else one[:12] for one in snapshots[:_SNAPSHOTS_SAID]]
    more = len(snapshots) - len(words)
    return ", ".join(words) + (
        " " + tr("and {more} more").format(more=number_words(more)) if more > 0 else ""
    )
