"""The ladder: how dense history stays with age. ``core.ladder_keeping`` says which snapshots that keeps.

A rung reaches up to an age and keeps, of each calendar period of its step, the last snapshot; the ages of
rungs rise. A snapshot stays if its own rung or any later one keeps it. What a later rung will keep is
therefore still there when its time comes, whatever was released before: thinning often, seldom or once ends
in the same set. ``docs/thinning.md`` has the argument and a worked example.
"""

from __future__ import annotations

import enum
import re
from datetime import UTC, datetime

import msgspec
from dateutil.relativedelta import relativedelta

from good_tide.core.errors import PersonError
from good_tide.core.translation import tr
from good_tide.core.words import count_words


class Step(enum.StrEnum):
    """Of which period a rung keeps the last snapshot. Weeks begin on Monday (ISO 8601)."""

    EVERY = "every"
    HOUR = "hour"
    DAY = "day"
    WEEK = "week"
    MONTH = "month"
    QUARTER = "quarter"
    YEAR = "year"


_UNITS = {"h": "hours", "d": "days", "w": "weeks", "mo": "months", "y": "years"}
_LONG = {
    "hour": "h",
    "hours": "h",
    "day": "d",
    "days": "d",
    "week": "w",
    "weeks": "w",
    "month": "mo",
    "months": "mo",
    "year": "y",
    "years": "y",
}


class Rung(msgspec.Struct, frozen=True, omit_defaults=True):
    """Up to an age, of each period of ``step`` the last snapshot. ``reach`` such as ``2d``, ``12mo``; empty:
    for ever."""

    step: Step
    reach: str = ""

    def text(self) -> str:
        """As ``parse_rung`` reads it."""
        return f"{self.reach or 'forever'} {self.step.value}"


class Ladder(msgspec.Struct, frozen=True, omit_defaults=True):
    """Rungs from the youngest on. After the last rung's reach nothing is kept. No rung: everything stays for
    ever."""

    rungs: tuple[Rung, ...] = ()

    def check(self) -> None:
        """Whether it makes sense.

        Raises:
            PersonError: it does not.
        """
        before = None
        for number, rung in enumerate(self.rungs):
            if not rung.reach and number + 1 < len(self.rungs):
                raise PersonError(
                    tr("A rung after the one that lasts for ever keeps nothing"),
                    tr("Let the last rung last for ever"),
                )
            if rung.reach:
                ends = reach_back(rung.reach, _SOME_DAY)
                if before is not None and ends >= before:
                    raise PersonError(
                        tr("The rung “{text}” reaches no further back than the one before").format(
                            text=rung.text()
                        ),
                        tr("Put the rungs in order of age"),
                    )
                before = ends


_SOME_DAY = datetime(2026, 7, 15, tzinfo=UTC)

READY = {
    "close": Ladder(
        (Rung(Step.EVERY, "7d"), Rung(Step.HOUR, "30d"), Rung(Step.DAY, "12mo"), Rung(Step.WEEK))
    ),
    "usual": Ladder(
        (Rung(Step.EVERY, "2d"), Rung(Step.DAY, "30d"), Rung(Step.WEEK, "12mo"), Rung(Step.QUARTER))
    ),
    "long": Ladder(
        (Rung(Step.EVERY, "2d"), Rung(Step.DAY, "14d"), Rung(Step.WEEK, "3mo"), Rung(Step.MONTH, "10y"))
    ),
    "everything": Ladder(),
}
"""Ready ladders by their names."""


def parse_rung(text: str) -> Rung:
    """A rung, from ``2d every``, ``30 days day``, ``12mo week``, ``forever quarter``.

    Raises:
        PersonError: it cannot be understood.
    """
    words = text.strip().lower().split()
    step = words[-1] if words else ""
    reach = "".join(words[:-1])
    if step not in list(Step):
        raise PersonError(
            tr("“{text}” is no rung").format(text=text),
            tr("End it with one of {Step}").format(Step=", ".join(Step)),
        )
    if reach in ("forever", "ever"):
        return Rung(Step(step))
    found = re.fullmatch(r"(\d{1,4})([a-z]+)", reach)
    unit = _LONG.get(found[2], found[2]) if found is not None else ""
    if found is None or unit not in _UNITS or not int(found[1]):
        raise PersonError(
            tr("“{text}” is no rung").format(text=text),
            tr("Write such as “2d every”, “30d day”, “12mo week”, “forever quarter”"),
        )
    return Rung(Step(step), f"{int(found[1])}{unit}")


def reach_back(reach: str, now: datetime) -> datetime:
    """The moment to which a reach goes back: months and years by the calendar, the rest as elapsed time."""
    found = re.fullmatch(r"(\d+)([a-z]+)", reach)
    assert found is not None
    back = relativedelta(**{_UNITS[found[2]]: int(found[1])})  # type: ignore[arg-type]
    if found[2] in ("mo", "y"):
        return now - back
    return (now.astimezone(UTC) - back).astimezone(now.tzinfo)


def words(ladder: Ladder) -> str:
    """A ladder as a sentence's part: ``hour by hour for two days, …``."""
    if not ladder.rungs:
        return tr("everything for ever")
    parts = []
    for rung in ladder.rungs:
        dense = tr("every one") if rung.step is Step.EVERY else tr("one {PER}").format(PER=_PER[rung.step])
        parts.append(
            tr("{dense} for {reach_words}").format(dense=dense, reach_words=reach_words(rung.reach))
            if rung.reach
            else tr("{dense} for ever").format(dense=dense)
        )
    return (", " + tr("then") + " ").join(parts)


_PER = {
    Step.HOUR: tr("an hour"),
    Step.DAY: "a day",
    Step.WEEK: "a week",
    Step.MONTH: "a month",
    Step.QUARTER: "a quarter",
    Step.YEAR: "a year",
}


def reach_words(reach: str) -> str:
    """A reach in words: ``2 days``, ``12 months``."""
    found = re.fullmatch(r"(\d+)([a-z]+)", reach)
    assert found is not None
    return count_words(int(found[1]), _UNITS[found[2]].removesuffix("s"))
