"""Ten weeks in the production office, as a list of dated changes.

Week and day count from 0 (Monday of the first week); hours are local time. Each change works on a ``Desk``.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import date, datetime, time, timedelta
from random import Random
from typing import NamedTuple, Protocol

from good_tide.demo import documents

WEEKS = 10
HOURS = (10, 11, 12, 14, 15, 16)
"""Hours of a working day at which a snapshot is taken."""

WINTER = "Productions/Winter play"
SPRING = "Productions/Spring musical"
OFFICE = "Office"
SOUND = "Sound"
COVERED = ("Productions", OFFICE, SOUND)

CONTRACT = f"{OFFICE}/Letters/guest director contract.odt"
BUDGET = f"{OFFICE}/Budgets/winter play budget.csv"
THROWN_AWAY = f"{WINTER}/Set drawings/First scheme"
SAVED_ELEVEN_TIMES = f"{OFFICE}/Letters/letter to the council.txt"
OLD_NAME, NEW_NAME = f"{WINTER}/cues for the second half.txt", f"{WINTER}/cue sheet act 2.txt"
RECORDING = f"{SOUND}/full run recording.wav"
REWRITTEN = SPRING


class Desk(Protocol):
    """What the story does to the workstation's files. Paths are relative to the person's home."""

    def write(self, path: str, content: bytes) -> None:
        """Write a whole file, folders made as needed."""
        ...

    def read(self, path: str) -> bytes:
        """The content of a file."""
        ...

    def remove(self, path: str) -> None:
        """Throw a file or folder away."""
        ...

    def rename(self, path: str, to: str) -> None:
        """Rename a file."""
        ...

    def files(self, path: str) -> list[str]:
        """All files below a folder, in order."""
        ...


class Change(NamedTuple):
    """Something done at a moment; ``snapshot`` whether a snapshot is taken right after it."""

    when: datetime
    act: Callable[[Desk], None]
    snapshot: bool


def first_monday(end: date) -> date:
    """The Monday that ten weeks up to and including the week of ``end`` begin with."""
    return end - timedelta(days=end.weekday(), weeks=WEEKS - 1)


def tell(end: datetime, seed: int = 7) -> Iterator[Change]:
    """All changes up to ``end``, in order of time, each working hour closed by a snapshot."""
    start = first_monday(end.date())
    teller = _Teller(start, Random(seed))
    yield Change(datetime.combine(start, time(9, 0), end.tzinfo), teller.move_in, False)
    for week in range(WEEKS):
        for day in range(5):
            for hour in HOURS:
                for change in teller.hour(week, day, hour):
                    when = datetime.combine(
                        start + timedelta(weeks=week, days=day), time(*change[0]), end.tzinfo
                    )
                    if when <= end:
                        yield Change(when, change[1], change[2])


_Clock = tuple[int, int]
_Act = tuple[_Clock, Callable[[Desk], None], bool]


class _Teller:
    def __init__(self, start: date, random: Random) -> None:
        self._start, self._random = start, random

    def move_in(self, desk: Desk) -> None:
        """The files that were there before the first snapshot."""
        random = self._random
        for act in (1, 2, 3):
            if act != 2:
                desk.write(
                    f"{WINTER}/cue sheet act {act}.txt",
                    _lines(documents.cue_sheet(random, f"Winter play, act {act}", 26)),
                )
            desk.write(
                f"{SPRING}/cue sheet act {act}.txt",
                _lines(documents.cue_sheet(random, f"Spring musical, act {act}", 34)),
            )
        desk.write(OLD_NAME, _lines(documents.cue_sheet(random, "Winter play, second half", 30)))
        for production, scenes in ((WINTER, 44), (SPRING, 36)):
            for scene in range(1, scenes + 1):
                desk.write(
                    f"{production}/Script/scene {scene:02d}.txt", documents.sentences(random, 30).encode()
                )
            for number in range(1, 15):
                name = f"{production}/Set drawings/plan {number:02d}.svg"
                desk.write(name, documents.set_drawing(random, f"Plan {number}", 10 + number))
            for number in range(1, 4):
                desk.write(f"{production}/Posters/poster draft {number}.png", documents.poster(random))
            desk.write(f"{production}/props.csv", documents.as_csv(documents.budget(random, 24)))
        for number in range(1, 7):
            desk.write(
                f"{THROWN_AWAY}/scheme {number}.svg", documents.set_drawing(random, f"First scheme {number}")
            )
        for number in range(1, 41):
            desk.write(
                f"{SOUND}/Cues/cue {number:02d}.wav", documents.sound_cue(random, random.uniform(1.0, 3.0))
            )
        for name in (
            "bank",
            "printer",
            "fire officer",
            "school visit",
            "wig maker",
            "electrician",
            "piano tuner",
            "bakery",
            "harbour master",
            "choir",
            "ferry office",
        ):
            desk.write(f"{OFFICE}/Letters/letter to the {name}.txt", documents.letter(random, name).encode())
        desk.write(BUDGET, documents.as_csv(documents.budget(random, 60)))
        for name in ("spring musical", "building", "wardrobe", "tour"):
            desk.write(f"{OFFICE}/Budgets/{name} budget.csv", documents.as_csv(documents.budget(random, 30)))
        desk.write(f"{OFFICE}/contacts.csv", documents.as_csv(documents.budget(random, 40)))
        desk.write(CONTRACT, documents.office_text(documents.CONTRACT))
        desk.write(
            f"{OFFICE}/Ordner für Gäste.txt",
            "Gästeliste der Premiere, Grüße aus der Küche\n".encode("latin-1"),
        )

        self._leave_about(desk)

    @staticmethod
    def _leave_about(desk: Desk) -> None:
        """What the demo's rules leave out: drafts, and what programs leave lying about."""
        random = Random(11)
        for number in range(1, 9):
            desk.write(f"{WINTER}/Drafts/poster idea {number}.png", documents.poster(random))
        desk.write(f"{OFFICE}/Budgets/~$winter play budget.csv", random.randbytes(162))
        for number in range(1, 6):
            desk.write(f"{SOUND}/Cues/.cache/peaks {number}.bin", random.randbytes(60_000))
        desk.write(f"{SOUND}/Cues/rain mix.wav.part", random.randbytes(240_000))

    def hour(self, week: int, day: int, hour: int) -> list[_Act]:
        """What happens in one working hour, in order."""
        acts: list[_Act] = list(self._stories(week, day, hour))
        if hour == HOURS[0]:
            acts.append(((hour - 1, 40), self._morning(week, day), False))
        acts.append(((hour - 1, 50), self._ordinary(week), False))
        acts.sort(key=lambda act: act[0])
        return [*acts, ((hour, 0), _nothing, True)]

    def _morning(self, week: int, day: int) -> Callable[[Desk], None]:
        when = self._start + timedelta(weeks=week, days=day)

        def act(desk: Desk) -> None:
            name = f"{OFFICE}/Rehearsal calls/call {when.isoformat()}.txt"
            desk.write(
                name, documents.rehearsal_call(self._random, f"{when:%A} {when.day} {when:%B}").encode()
            )
            if day == 0:
                desk.write(f"{OFFICE}/rota.xlsx", documents.rota(week))
            if day == 2:
                desk.write(
                    f"{OFFICE}/Letters/letter week {week + 1}.txt",
                    documents.letter(self._random, "friends of the playhouse").encode(),
                )
            if day == 3 and week % 2:
                desk.write(
                    f"{WINTER}/Posters/poster draft {4 + week // 2}.png", documents.poster(self._random)
                )

        return act

    def _ordinary(self, week: int) -> Callable[[Desk], None]:
        def act(desk: Desk) -> None:
            random = self._random
            production = WINTER if random.random() < 0.75 or week >= 8 else SPRING
            choice = random.random()
            if choice < 0.35:
                sheets = [path for path in desk.files(production) if "cue" in path and path.endswith(".txt")]
                self._edit_lines(desk, random.choice(sheets))
            elif choice < 0.6:
                self._edit_lines(desk, random.choice(desk.files(f"{production}/Script")))
            elif choice < 0.8 and not (week >= 8):
                self._spend(desk, BUDGET)
            elif choice < 0.9:
                self._spend(
                    desk,
                    f"{OFFICE}/Budgets/{random.choice(('spring musical', 'building', 'wardrobe'))}"
                    " budget.csv",
                )

        return act

    def _edit_lines(self, desk: Desk, path: str) -> None:
        lines = desk.read(path).decode().split("\n")
        for _ in range(self._random.randint(1, 3)):
            at = self._random.randrange(min(3, len(lines) - 1), len(lines))
            fresh = (
                documents.cue_sheet(self._random, "", 1)[-1]
                if "cue" in path
                else documents.sentences(self._random, 1)
            )
            lines[at : at + self._random.randint(0, 1)] = [fresh]
        desk.write(path, "\n".join(lines).encode())

    def _spend(self, desk: Desk, path: str) -> None:
        rows = desk.read(path).decode().splitlines()
        at = self._random.randrange(1, len(rows))
        cells = rows[at].split(",")
        cells[2] = f"{self._random.randint(1, 900)}.{self._random.randint(0, 99):02d}"
        rows[at] = ",".join(cells)
        desk.write(path, ("\r\n".join(rows) + "\r\n").encode())

    def _stories(self, week: int, day: int, hour: int) -> Iterator[_Act]:
        moment = (week, day, hour)
        if moment == (8, 1, 14):
            yield (13, 20), self._overwrite_budget, False
        if moment == (5, 3, 11):
            yield (10, 35), lambda desk: desk.remove(THROWN_AWAY), False
        if moment == (7, 2, 15):
            for number in range(11):
                yield (14, 3 + 5 * number), self._save_letter(number), True
        if moment == (6, 1, 11):
            yield (10, 20), self._drop_the_fee, False
        if moment == (3, 1, 12):
            yield (11, 15), lambda desk: desk.rename(OLD_NAME, NEW_NAME), False
        if moment == (4, 0, 16):
            yield (
                (15, 30),
                lambda desk: desk.write(RECORDING, documents.sound_cue(self._random, 400.0)),
                False,
            )
        if moment == (4, 3, 10):
            yield (9, 10), lambda desk: desk.remove(RECORDING), False
        if moment == (8, 3, 16):
            yield (15, 12), self._rewrite_with_noise, False

    @staticmethod
    def _drop_the_fee(desk: Desk) -> None:
        """Somebody takes a clause out of a contract, and nobody notices for weeks."""
        kept = [words for words in documents.CONTRACT if "The fee is" not in words]
        desk.write(CONTRACT, documents.office_text(kept))

    def _overwrite_budget(self, desk: Desk) -> None:
        desk.write(
            BUDGET, documents.as_csv([["Item", "Planned", "Spent", "Who"], ["new", "0.00", "0.00", ""]])
        )

    def _save_letter(self, number: int) -> Callable[[Desk], None]:
        def act(desk: Desk) -> None:
            text = (
                documents.letter(self._random, "members of the council", 1)
                if number == 0
                else desk.read(SAVED_ELEVEN_TIMES).decode()
            )
            if number:
                text = text.replace("\n\nYours", f"\n\n{documents.sentences(self._random, 2)}\n\nYours", 1)
            desk.write(SAVED_ELEVEN_TIMES, text.encode())

        return act

    def _rewrite_with_noise(self, desk: Desk) -> None:
        for path in desk.files(REWRITTEN):
            desk.write(path, self._random.randbytes(len(desk.read(path))))


def _nothing(desk: Desk) -> None:
    """An hour in which nobody saved anything still gets its snapshot."""


def _lines(lines: list[str]) -> bytes:
    return ("\n".join(lines) + "\n").encode()
