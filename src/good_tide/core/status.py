"""The status sentence and the panel icon: what is so, computed from facts by one model."""

from __future__ import annotations

import enum
import shlex

import msgspec

from good_tide.core.clock import SECOND
from good_tide.core.health import StoreTrouble
from good_tide.core.planning import Wait
from good_tide.core.progress import WorkKind
from good_tide.core.words import count_words, duration_words, size_words, time_words
from good_tide.core.work_words import work_words

_HOUR, _DAY = 3600 * SECOND, 86400 * SECOND
_GRACE = 10 * 60 * SECOND
"""A run that is due may take so long to begin before anything is said of it."""
_LONG_AWAY = 7 * _DAY


class StoreState(enum.StrEnum):
    """What can be said of the store that a job's history is shown from; ``UNKNOWN`` before it was looked
    at."""

    UNKNOWN = "unknown"
    NO_JOB = "no-job"
    AWAY = "away"
    LOCKED = "locked"
    DAMAGED = "damaged"
    REPLACED = "replaced"
    CATCHING_UP = "catching-up"
    EMPTY = "empty"
    READY = "ready"


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


class Topic(enum.StrEnum):
    """What a trouble is about: the same topic is the same trouble, however its words change."""

    ALARM = "alarm"
    DAMAGE = "damage"
    LOCKED = "locked"
    FAILING = "failing"
    GAPS = "gaps"
    AWAY = "away"
    FIRST = "first"
    LATE = "late"
    FULL = "full"
    STORE = "store"


class Trouble(msgspec.Struct, frozen=True):
    """Something that somebody should look at: since when (nanoseconds since 1970 UTC), what, what to do, and
    what it is about."""

    since: int
    what: str
    todo: str
    topic: Topic


class Action(enum.StrEnum):
    """The one action that matters now."""

    NONE = ""
    SET_UP = "Set up…"
    TAKE = "Take snapshot"
    UNLOCK = "Unlock…"
    GO_ON = "Go on"
    JOURNAL = "See what happened"
    STORES = "Look at the store"
    ALARM = "See what changed…"


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


class JobFacts(msgspec.Struct, frozen=True, kw_only=True):
    """What is known of a job. Times in nanoseconds since 1970 UTC, 0: never or not.

    :param state: of its store.
    :param disk: what people call the disk.
    :param last: the newest snapshot, ``gaps`` files missing from it, some of them in ``gap_names``.
    :param next: when the next run begins by itself.
    :param due: since when one is due, and ``wait`` what it waits for, until ``wait_until``,
        at the very latest until ``wait_latest``. 0: not known.
    :param locked: what its stores are called that nobody can open by himself; ``name`` what the job is.
    :param working: what is being done, None: nothing.
    :param held: snapshots in the holding area; ``holding`` whether it takes more.
    :param alarm: files were destroyed, as it seems, in words; ``alarm_since`` when.
    :param stores: what somebody should look at about each of the stores.
    :param strange: what is not as it should be with a store, each with what to do.
    :param free: room on the disk, None while not known.
    :param full_in_days: ``forecast.days_left``.
    """

    state: StoreState
    disk: str = ""
    by_hand: bool = False
    last: int = 0
    gaps: int = 0
    gap_names: tuple[str, ...] = ()
    next: int = 0
    due: int = 0
    wait: Wait | None = None
    wait_until: int = 0
    wait_latest: int = 0
    battery: float | None = None
    paused_until: int = 0
    away_since: int = 0
    held: int = 0
    holding: bool = False
    failures: int = 0
    failing_since: int = 0
    error: str = ""
    advice: str = ""
    working: WorkKind | None = None
    work_paused: bool = False
    free: int | None = None
    full_in_days: float | None = None
    damage: tuple[str, ...] = ()
    alarm: str = ""
    alarm_since: int = 0
    stores: tuple[StoreTrouble, ...] = ()
    strange: tuple[tuple[str, str], ...] = ()
    locked: tuple[str, ...] = ()
    name: str = ""


def room_words(disk: str, free: int | None, days: float | None) -> str:
    """What room a disk has, as a sentence; empty while it is not known."""
    if free is None:
        return ""
    if days is None or days > 3 * 365:
        return f"{disk} has {size_words(free)} free."
    if days < 14:
        return f"{disk} is full in about {count_words(max(1, round(days)), 'day')}."
    return (
        f"{disk} has room for about {round(days / 7)} weeks."
        if days < 70
        else f"{disk} has room for about {round(days / 30.4)} months."
    )


_REPLACED_TODO = "Bring the old disk back, or go on with what is there now"


def _replaced(facts: JobFacts) -> str:
    return f"The store on {facts.disk} is not there any more"


def _troubles(facts: JobFacts, now: int) -> tuple[Trouble, ...]:
    found = []
    if facts.alarm:
        todo = "See what changed; until then nothing is released"
        found.append(Trouble(facts.alarm_since, facts.alarm, todo, Topic.ALARM))
    if facts.state is StoreState.DAMAGED:
        found.append(
            Trouble(now, f"The store on {facts.disk} is damaged", "Let it be repaired", Topic.DAMAGE)
        )
    found += [
        Trouble(now, words, "Let the store be repaired", Topic.DAMAGE)
        for words in facts.damage
        if facts.state not in (StoreState.DAMAGED, StoreState.REPLACED)
    ]
    found += [
        Trouble(one.since, one.what, one.todo, Topic.DAMAGE if one.harm else Topic.STORE)
        for one in facts.stores
        if not (facts.failures and one.what.endswith(facts.error))
    ]
    if facts.state is StoreState.REPLACED and not facts.stores:
        found.append(Trouble(now, _replaced(facts), _REPLACED_TODO, Topic.STORE))
    found += [Trouble(now, what, todo, Topic.STORE) for what, todo in facts.strange]
    if facts.state is StoreState.LOCKED:
        found.append(
            Trouble(now, f"The store on {facts.disk} is locked", "Give its passphrase", Topic.LOCKED)
        )
    elif facts.locked:
        names = " and ".join(facts.locked)
        what = f"The passphrase of {names} is kept nowhere: no snapshot is taken by itself"
        todo = f"Give it once with “good-tide unlock {shlex.quote(facts.name)}”, or unlock it in the window"
        found.append(Trouble(now, what, todo, Topic.LOCKED))
    if facts.failures:
        found.append(Trouble(facts.failing_since, facts.error, facts.advice, Topic.FAILING))
    if facts.gaps:
        found.append(
            Trouble(
                facts.last,
                _gap_words(facts),
                "See them in the journal; leave out by a rule what need not be kept",
                Topic.GAPS,
            )
        )
    if facts.away_since and not (facts.holding and now - facts.away_since < _LONG_AWAY):
        found.append(Trouble(facts.away_since, f"The disk {facts.disk} is away", "Connect it", Topic.AWAY))
    if facts.state is StoreState.EMPTY and not facts.working:
        found.append(Trouble(now, "There is no snapshot yet", "Take the first one", Topic.FIRST))
    elif facts.last and now - facts.last > _LONG_AWAY and not facts.by_hand and not facts.failures:
        found.append(
            Trouble(
                facts.last,
                "There was no snapshot for a week",
                "Take one, or see the journal for what it waits for",
                Topic.LATE,
            )
        )
    if facts.full_in_days is not None and facts.full_in_days < 14:
        found.append(
            Trouble(
                now,
                room_words(facts.disk, facts.free, facts.full_in_days).rstrip("."),
                "Make room, or add a larger disk",
                Topic.FULL,
            )
        )
    return tuple(found)


def _gap_words(facts: JobFacts) -> str:
    named = f": {facts.gap_names[0]}" if len(facts.gap_names) == 1 and facts.gaps == 1 else ""
    return f"{count_words(facts.gaps, 'file')} could not be read{named}"


def status(facts: JobFacts, now: int) -> Status:
    """The status of a job."""
    made = _status(facts, now)
    long_away = made.state is State.AWAY and (not facts.holding or now - facts.away_since >= _LONG_AWAY)
    mood = Mood.ATTENTION if long_away else _MOODS[made.state]
    troubles = _troubles(facts, now)
    if mood is Mood.WELL and troubles:
        mood = Mood.ATTENTION
    return msgspec.structs.replace(made, mood=mood, trouble=troubles)


def _status(facts: JobFacts, now: int) -> Status:
    room = room_words(facts.disk, facts.free, facts.full_in_days)
    last = f"Last snapshot {time_words(facts.last, now)}." if facts.last else "There is no snapshot yet."
    after = f"Next {_soon(facts.next, now)}." if facts.next else ""
    if facts.state is StoreState.NO_JOB:
        return Status(State.NO_JOB, "Nothing is protected on this machine yet.", action=Action.SET_UP)
    if facts.working:
        return Status(
            State.RUNNING, f"{work_words(facts.working, facts.work_paused)}.", f"{last} {room}".strip()
        )
    if facts.alarm:
        return Status(
            State.ALARM,
            f"Harm: {facts.alarm}.",
            f"See what changed; nothing is released until then. {last}",
            action=Action.ALARM,
        )
    if facts.state is StoreState.DAMAGED:
        return Status(
            State.DAMAGED,
            f"The store on {facts.disk} is damaged.",
            "Let it be repaired.",
            action=Action.STORES,
        )
    if facts.state is StoreState.REPLACED:
        return Status(
            State.REPLACED, f"{_replaced(facts)}.", f"{_REPLACED_TODO}. {last}", action=Action.STORES
        )
    harm = next((one for one in facts.stores if one.harm), None)
    if harm is not None:
        return Status(State.DAMAGED, f"{harm.what}.", f"{harm.todo}. {last}", action=Action.STORES)
    if facts.failures and not facts.away_since:
        since = time_words(facts.failing_since, now)
        return Status(
            State.FAILING,
            f"Failing since {since}: {facts.error}.",
            f"{facts.advice}. {last}",
            action=Action.JOURNAL,
        )
    if facts.away_since:
        return _away(facts, now, last)
    if facts.locked and facts.state is not StoreState.LOCKED:
        sentence = f"The passphrase of {' and '.join(facts.locked)} is kept nowhere."
        detail = f"No snapshot is taken by itself. {last}"
        return Status(State.LOCKED, sentence, detail, action=Action.UNLOCK)
    if facts.state is StoreState.LOCKED:
        return Status(
            State.LOCKED,
            f"The store on {facts.disk} is locked.",
            f"Give its passphrase. {last}",
            action=Action.UNLOCK,
        )
    if facts.paused_until > now:
        until = _soon(facts.paused_until, now)
        return Status(
            State.PAUSED,
            f"Paused until {until.removeprefix('at ')}.",
            f"{last} Nothing runs by itself until then.",
            action=Action.GO_ON,
        )
    if facts.state is StoreState.CATCHING_UP:
        return Status(State.READING, "Reading history.", f"{room} Snapshots can be taken meanwhile.".strip())
    if facts.gaps:
        return Status(
            State.GAPS,
            f"With gaps: {_gap_words(facts)}.",
            f"{last} {after} {room}".strip(),
            action=Action.JOURNAL,
        )
    if facts.due and facts.wait is not None and facts.wait not in (Wait.SETTLING, Wait.HOURS):
        return Status(
            State.WAITING,
            f"Waiting: {_wait_words(facts, now)}.",
            f"Due since {time_words(facts.due, now)}. {last}",
            action=Action.TAKE,
        )
    if facts.due and facts.wait is Wait.SETTLING:
        return Status(State.DUE, f"{facts.disk} is here; a snapshot begins in a moment.", last)
    if facts.due and facts.wait is None and now - facts.due > _GRACE:
        return Status(
            State.DUE,
            f"A snapshot has been due since {time_words(facts.due, now)}.",
            last,
            action=Action.TAKE,
        )
    if not facts.last:
        return Status(
            State.FIRST,
            "There is no snapshot yet.",
            f"Take the first one. {room}".strip(),
            action=Action.TAKE,
        )
    if facts.by_hand:
        age = (now - facts.last) / SECOND
        ago = f", {duration_words(age)} ago" if age >= 3600 else ""
        return Status(
            State.BY_HAND,
            f"Last snapshot {time_words(facts.last, now)}{ago}.",
            f"Snapshots are taken by hand. {room}".strip(),
        )
    lead = f"last snapshot {time_words(facts.last, now)}"
    if now - facts.last > _LONG_AWAY:
        return Status(
            State.CURRENT,
            f"A week without a snapshot: {lead}.",
            f"{after} {room}".strip(),
            action=Action.TAKE,
        )
    return Status(
        State.CURRENT, f"Up to date: {lead}{', next ' + _soon(facts.next, now) if facts.next else ''}.", room
    )


def _away(facts: JobFacts, now: int, last: str) -> Status:
    since = time_words(facts.away_since, now)
    if facts.holding:
        kept = (
            f"{count_words(facts.held, 'snapshot')} kept on this machine until it is back."
            if facts.held
            else "Snapshots go on in the holding area."
        )
        after = f" Next {_soon(facts.next, now)}." if facts.next else ""
        return Status(State.AWAY, f"{facts.disk} has been away since {since}.", f"{kept} {last}{after}")
    return Status(
        State.AWAY,
        f"{facts.disk} has been away since {since}; no snapshots are taken.",
        f"Connect it. {last}",
    )


def _soon(moment: int, now: int) -> str:
    words = time_words(moment, now)
    return "at " + words.removeprefix("today ") if words.startswith("today ") else words


def _wait_words(facts: JobFacts, now: int) -> str:
    again = _soon(facts.wait_until, now) if facts.wait_until else "soon"
    latest = f"; it runs {_soon(facts.wait_latest, now)} all the same" if facts.wait_latest else ""
    battery = "" if facts.battery is None else f", at {facts.battery:.0f} %"
    return {
        Wait.PAUSED: "paused",
        Wait.DISK: f"{facts.disk} is not here",
        Wait.SETTLING: f"{facts.disk} has just come",
        Wait.RETRY: f"trying again {again}",
        Wait.HOURS: "not in the hours that are allowed",
        Wait.BATTERY: f"the machine runs on battery{battery}",
        Wait.METERED: "the network connection is metered",
        Wait.PRESENTING: "the screen is used for a presentation",
        Wait.BUSY: f"the machine is busy with other work{latest}",
    }[facts.wait or Wait.PAUSED]
