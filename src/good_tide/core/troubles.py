"""What somebody should look at about a job, each with what to do about it."""

from __future__ import annotations

import shlex

from good_tide.core.clock import SECOND
from good_tide.core.job_facts import JobFacts, StoreState, Topic, Trouble
from good_tide.core.translation import tr
from good_tide.core.words import count_words, listed, size_words

LONG_AWAY = 7 * 86400 * SECOND
"""After so long without a snapshot, or without the disk, somebody should look."""

REPLACED_TODO = tr("Bring the old disk back, or go on with what is there now")


def replaced_words(facts: JobFacts) -> str:
    """That another store is in the place of the job's."""
    return tr("The store on {disk} is not there any more").format(disk=facts.disk)


def troubles_of(facts: JobFacts, now: int) -> tuple[Trouble, ...]:
    """Everything that somebody should look at."""
    found = []
    if facts.alarm:
        todo = tr("See what changed; until then nothing is released")
        found.append(Trouble(facts.alarm_since, facts.alarm, todo, Topic.ALARM))
    if facts.state is StoreState.DAMAGED:
        found.append(
            Trouble(
                now,
                tr("The store on {disk} is damaged").format(disk=facts.disk),
                tr("Let it be repaired"),
                Topic.DAMAGE,
            )
        )
    found += [
        Trouble(now, words, tr("Let the store be repaired"), Topic.DAMAGE)
        for words in facts.damage
        if facts.state not in (StoreState.DAMAGED, StoreState.REPLACED)
    ]
    found += [
        Trouble(one.since, one.what, one.todo, Topic.DAMAGE if one.harm else Topic.STORE)
        for one in facts.stores
        if not (facts.failures and one.what.endswith(facts.error))
    ]
    if facts.state is StoreState.REPLACED and not facts.stores:
        found.append(Trouble(now, replaced_words(facts), REPLACED_TODO, Topic.STORE))
    found += [Trouble(now, what, todo, Topic.STORE) for what, todo in facts.strange]
    if facts.state is StoreState.LOCKED:
        found.append(
            Trouble(
                now,
                tr("The store on {disk} is locked").format(disk=facts.disk),
                tr("Give its passphrase"),
                Topic.LOCKED,
            )
        )
    elif facts.locked:
        names = listed(facts.locked)
        what = tr("The passphrase of {names} is kept nowhere: no snapshot is taken by itself").format(
            names=names
        )
        todo = tr("Give it once with “good-tide unlock {name}”, or unlock it in the window").format(
            name=shlex.quote(facts.name)
        )
        found.append(Trouble(now, what, todo, Topic.LOCKED))
    if facts.failures:
        found.append(Trouble(facts.failing_since, facts.error, facts.advice, Topic.FAILING))
    if facts.gaps:
        found.append(
            Trouble(
                facts.last,
                gap_words(facts),
                tr("See them in the journal; leave out by a rule what need not be kept"),
                Topic.GAPS,
            )
        )
    if facts.away_since and not (facts.holding and now - facts.away_since < LONG_AWAY):
        what, todo = tr("The disk {disk} is away").format(disk=facts.disk), tr("Connect it")
        if facts.away_why:
            what, todo = (
                tr("The store on {disk} cannot be used").format(disk=facts.disk),
                facts.away_why.rstrip("."),
            )
        found.append(Trouble(facts.away_since, what, todo, Topic.AWAY))
    if facts.state is StoreState.EMPTY and not facts.working:
        found.append(Trouble(now, tr("There is no snapshot yet"), tr("Take the first one"), Topic.FIRST))
    elif facts.last and now - facts.last > LONG_AWAY and not facts.by_hand and not facts.failures:
        found.append(
            Trouble(
                facts.last,
                tr("There was no snapshot for a week"),
                tr("Take one, or see the journal for what it waits for"),
                Topic.LATE,
            )
        )
    if facts.full_in_days is not None and facts.full_in_days < 14:
        found.append(
            Trouble(
                now,
                room_words(facts.room_on or facts.disk, facts.free, facts.full_in_days).rstrip("."),
                tr("Make room, or add a larger disk"),
                Topic.FULL,
            )
        )
    return tuple(found)


def gap_words(facts: JobFacts) -> str:
    """What is missing from the newest snapshot."""
    named = f": {facts.gap_names[0]}" if len(facts.gap_names) == 1 and facts.gaps == 1 else ""
    return tr("{gaps} could not be read{named}").format(gaps=count_words(facts.gaps, "file"), named=named)


def room_words(disk: str, free: int | None, days: float | None) -> str:
    """What room a disk has, as a sentence; empty while it is not known."""
    if free is None:
        return ""
    if days is None or days > 3 * 365:
        return tr("{disk} has {free} free.").format(disk=disk, free=size_words(free))
    if days < 14:
        return tr("{disk} is full in about {max}.").format(
            disk=disk, max=count_words(max(1, round(days)), "day")
        )
    return (
        tr("{disk} has room for about {round} weeks.").format(disk=disk, round=round(days / 7))
        if days < 70
        else tr("{disk} has room for about {round} months.").format(disk=disk, round=round(days / 30.4))
    )
