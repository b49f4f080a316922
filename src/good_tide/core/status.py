"""The status sentence and the panel icon: what is so, computed from facts by one model."""

from __future__ import annotations

import enum

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.job_facts import JobFacts, StoreState, Trouble
from good_tide.core.planning import Wait
from good_tide.core.progress import WorkKind
from good_tide.core.translation import noted, tr
from good_tide.core.troubles import (
    LONG_AWAY,
    REPLACED_TODO,
    gap_words,
    replaced_words,
    room_words,
    troubles_of,
)
from good_tide.core.words import count_words, duration_words, listed, local, time_words
from good_tide.core.work_words import work_words

_GRACE = 10 * 60 * SECOND
"""A run that is due may take so long to begin before anything is said of it."""


class Mood(enum.StrEnum):
    """How the state is to be taken; the shape of the sign follows it, so that colour is not needed."""

    WELL = "well"
    WORKING = "working"
    APART = "apart"
    PAUSED = "paused"
    ATTENTION = "attention"
    HARM = "harm"


class State(enum.StrEnum):
    """What is so."""

    NO_JOB = "no job"
    CURRENT = "current"
    BY_HAND = "by hand"
    FIRST = "first"
    DUE = "due"
    RUNNING = "running"
    WAITING = "waiting"
    PAUSED = "paused"
    AWAY = "away"
    LOCKED = "locked"
    READING = "reading"
    GAPS = "gaps"
    FAILING = "failing"
    DAMAGED = "damaged"
    REPLACED = "replaced"
    ALARM = "alarm"


_MOODS = {
    State.NO_JOB: Mood.ATTENTION,
    State.REPLACED: Mood.ATTENTION,
    State.CURRENT: Mood.WELL,
    State.BY_HAND: Mood.WELL,
    State.FIRST: Mood.ATTENTION,
    State.DUE: Mood.WORKING,
    State.RUNNING: Mood.WORKING,
    State.WAITING: Mood.PAUSED,
    State.PAUSED: Mood.PAUSED,
    State.AWAY: Mood.APART,
    State.LOCKED: Mood.ATTENTION,
    State.READING: Mood.WORKING,
    State.GAPS: Mood.ATTENTION,
    State.FAILING: Mood.HARM,
    State.DAMAGED: Mood.HARM,
    State.ALARM: Mood.HARM,
}


class Action(enum.StrEnum):
    """The one action that matters now."""

    NONE = ""
    SET_UP = noted("Set up…")
    TAKE = noted("Take snapshot")
    UNLOCK = noted("Unlock…")
    GO_ON = noted("Go on")
    JOURNAL = noted("See what happened")
    STORES = noted("Look at the store")
    ALARM = noted("See what changed…")


class Status(msgspec.Struct, frozen=True):
    """A sentence, a second one with detail, how it is to be taken, and what to do."""

    state: State
    sentence: str
    detail: str = ""
    mood: Mood = Mood.WELL
    action: Action = Action.NONE
    trouble: tuple[Trouble, ...] = ()

    @property
    def well(self) -> bool:
        """Whether nothing needs a look."""
        return not self.trouble


def status(facts: JobFacts, now: int) -> Status:
    """The status of a job."""
    made = _status(facts, now)
    long_away = made.state is State.AWAY and (not facts.holding or now - facts.away_since >= LONG_AWAY)
    mood = Mood.ATTENTION if long_away else _MOODS[made.state]
    troubles = troubles_of(facts, now)
    if mood is Mood.WELL and troubles:
        mood = Mood.ATTENTION
    return msgspec.structs.replace(made, mood=mood, trouble=troubles)


def _status(facts: JobFacts, now: int) -> Status:
    room = room_words(facts.room_on or facts.disk, facts.free, facts.full_in_days)
    last = (
        tr("Last snapshot {last}.").format(last=time_words(facts.last, now))
        if facts.last
        else tr("There is no snapshot yet.")
    )
    after = tr("Next {soon}.").format(soon=_soon(facts.next, now)) if facts.next else ""
    if facts.state is StoreState.NO_JOB:
        return Status(State.NO_JOB, tr("Nothing is protected on this machine yet."), action=Action.SET_UP)
    if facts.working is WorkKind.SNAPSHOT and not facts.last and not facts.work_paused:
        goes_on = tr("What is written is kept: it goes on where it was after a stop, sleep or a restart.")
        first = tr("The first snapshot is being taken.")
        return Status(State.RUNNING, first, f"{goes_on} {room}".strip())
    if facts.working:
        return Status(
            State.RUNNING, f"{work_words(facts.working, facts.work_paused)}.", f"{last} {room}".strip()
        )
    if facts.alarm:
        return Status(
            State.ALARM,
            tr("Harm: {alarm}.").format(alarm=facts.alarm),
            tr("See what changed; nothing is released until then. {last}").format(last=last),
            action=Action.ALARM,
        )
    if facts.state is StoreState.DAMAGED:
        return Status(
            State.DAMAGED,
            tr("The store on {disk} is damaged.").format(disk=facts.disk),
            tr("Let it be repaired."),
            action=Action.STORES,
        )
    if facts.state is StoreState.REPLACED:
        return Status(
            State.REPLACED, f"{replaced_words(facts)}.", f"{REPLACED_TODO}. {last}", action=Action.STORES
        )
    harm = next((one for one in facts.stores if one.harm), None)
    if harm is not None:
        return Status(State.DAMAGED, f"{harm.what}.", f"{harm.todo}. {last}", action=Action.STORES)
    if facts.failures and not facts.away_since:
        since = time_words(facts.failing_since, now)
        return Status(
            State.FAILING,
            tr("Failing since {since}: {error}.").format(since=since, error=facts.error),
            f"{facts.advice}. {last}",
            action=Action.JOURNAL,
        )
    if facts.away_since:
        return _away(facts, now, last)
    if facts.locked and facts.state is not StoreState.LOCKED:
        sentence = tr("The passphrase of {locked} is kept nowhere.").format(locked=listed(facts.locked))
        detail = tr("No snapshot is taken by itself. {last}").format(last=last)
        return Status(State.LOCKED, sentence, detail, action=Action.UNLOCK)
    if facts.state is StoreState.LOCKED:
        return Status(
            State.LOCKED,
            tr("The store on {disk} is locked.").format(disk=facts.disk),
            tr("Give its passphrase. {last}").format(last=last),
            action=Action.UNLOCK,
        )
    if facts.paused_until > now:
        return Status(
            State.PAUSED,
            tr("Paused until {until}.").format(until=_clock(facts.paused_until, now)),
            tr("{last} Nothing runs by itself until then.").format(last=last),
            action=Action.GO_ON,
        )
    if facts.state is StoreState.CATCHING_UP:
        return Status(
            State.READING,
            tr("Reading history."),
            tr("{room} Snapshots can be taken meanwhile.").format(room=room).strip(),
        )
    if facts.gaps:
        return Status(
            State.GAPS,
            tr("With gaps: {gap_words}.").format(gap_words=gap_words(facts)),
            f"{last} {after} {room}".strip(),
            action=Action.JOURNAL,
        )
    if facts.due and facts.wait is not None and facts.wait not in (Wait.SETTLING, Wait.HOURS):
        return Status(
            State.WAITING,
            tr("Waiting: {wait_words}.").format(wait_words=_wait_words(facts, now)),
            tr("Due since {due}. {last}").format(due=time_words(facts.due, now), last=last),
            action=Action.TAKE,
        )
    if facts.due and facts.wait is Wait.SETTLING:
        return Status(
            State.DUE, tr("{disk} is here; a snapshot begins in a moment.").format(disk=facts.disk), last
        )
    if facts.due and facts.wait is None and now - facts.due > _GRACE:
        return Status(
            State.DUE,
            tr("A snapshot has been due since {due}.").format(due=time_words(facts.due, now)),
            last,
            action=Action.TAKE,
        )
    if not facts.last:
        return Status(
            State.FIRST,
            tr("There is no snapshot yet."),
            tr("Take the first one. {room}").format(room=room).strip(),
            action=Action.TAKE,
        )
    if facts.by_hand:
        age = (now - facts.last) / SECOND
        ago = ", " + tr("{age} ago").format(age=duration_words(age)) if age >= 3600 else ""
        return Status(
            State.BY_HAND,
            tr("Last snapshot {last}{ago}.").format(last=time_words(facts.last, now), ago=ago),
            tr("Snapshots are taken by hand. {room}").format(room=room).strip(),
        )
    lead = tr("last snapshot {last}").format(last=time_words(facts.last, now))
    if now - facts.last > LONG_AWAY:
        return Status(
            State.CURRENT,
            tr("A week without a snapshot: {lead}.").format(lead=lead),
            f"{after} {room}".strip(),
            action=Action.TAKE,
        )
    return Status(
        State.CURRENT,
        tr("Up to date: {lead}{value}.").format(
            lead=lead,
            value=", " + tr("next {soon}").format(soon=_soon(facts.next, now)) if facts.next else "",
        ),
        room,
    )


def _away_words(facts: JobFacts, since: str) -> str:
    if facts.away_why:
        return tr("{disk} has not been usable since {since}.").format(disk=facts.disk, since=since)
    return tr("{disk} has been away since {since}.").format(disk=facts.disk, since=since)


def _away(facts: JobFacts, now: int, last: str) -> Status:
    since = time_words(facts.away_since, now)
    if facts.holding:
        kept = (
            tr("{held} kept on this machine until it is back.").format(
                held=count_words(facts.held, "snapshot")
            )
            if facts.held
            else tr("Snapshots go on in the holding area.")
        )
        after = " " + tr("Next {soon}.").format(soon=_soon(facts.next, now)) if facts.next else ""
        why = f"{facts.away_why} " if facts.away_why else ""
        return Status(State.AWAY, _away_words(facts, since), f"{kept} {why}{last}{after}")
    if facts.away_why:
        none = tr("No snapshots are taken.")
        return Status(State.AWAY, _away_words(facts, since), f"{facts.away_why} {none} {last}")
    return Status(
        State.AWAY,
        tr("{disk} has been away since {since}; no snapshots are taken.").format(
            disk=facts.disk, since=since
        ),
        tr("Connect it. {last}").format(last=last),
    )


def _soon(moment: int, now: int) -> str:
    """A moment to come as a sentence's end: ``at 14:00``, or with its day where it is another."""
    clock = _clock(moment, now)
    return tr("at {clock}").format(clock=clock) if _same_day(moment, now) else clock


def _clock(moment: int, now: int) -> str:
    return f"{local(moment):%H:%M}" if _same_day(moment, now) else time_words(moment, now)


def _same_day(moment: int, now: int) -> bool:
    return local(moment).date() == local(now).date()


def _wait_words(facts: JobFacts, now: int) -> str:
    again = _soon(facts.wait_until, now) if facts.wait_until else "soon"
    latest = (
        "; " + tr("it runs {soon} all the same").format(soon=_soon(facts.wait_latest, now))
        if facts.wait_latest
        else ""
    )
    battery = "" if facts.battery is None else f", at {facts.battery:.0f} %"
    return {
        Wait.PAUSED: "paused",
        Wait.DISK: tr("{disk} is not here").format(disk=facts.disk),
        Wait.SETTLING: tr("{disk} has just come").format(disk=facts.disk),
        Wait.RETRY: tr("trying again {again}").format(again=again),
        Wait.HOURS: tr("not in the hours that are allowed"),
        Wait.BATTERY: tr("the machine runs on battery{battery}").format(battery=battery),
        Wait.METERED: tr("the network connection is metered"),
        Wait.PRESENTING: tr("the screen is used for a presentation"),
        Wait.BUSY: tr("the machine is busy with other work{latest}").format(latest=latest),
    }[facts.wait or Wait.PAUSED]
