"""Job files: a set-up as TOML, to be used on the next machine. ``docs/job-file.md`` explains them.

Folders are written from the home folder (``~/``) or by the names of the XDG user directories
(``$DOCUMENTS``), and stores by what stays the same on every machine: a label, a UUID, the address of a share.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Mapping
from typing import Any

import msgspec
import tomli_w

from good_tide.core.errors import PersonError
from good_tide.core.kinds import checked_kinds, extended
from good_tide.core.ladder import Ladder, parse_rung
from good_tide.core.rhythm import (
    Considerate,
    Rhythm,
    at_text,
    every,
    every_minutes_of,
    is_every,
    parse_at,
    parse_every,
)
from good_tide.core.rules import RuleError, parse_rule
from good_tide.core.settings import (
    Holding,
    Job,
    LineLimit,
    MailServer,
    Noise,
    ReadBackDays,
    Reporting,
    Room,
    StoreRef,
    StoreUse,
    wrong_sizes,
)
from good_tide.core.translation import tr

FORMAT = 1
_PLAIN = Rhythm()
_SAME = tuple(name for name in Rhythm.__struct_fields__ if name != "rules")
"""Fields of a rhythm that a job file has as they are."""


class JobFileError(PersonError):
    """A job file that cannot be understood; ``line`` counts from 1."""

    def __init__(self, what: str, line: int, key: str = "") -> None:
        where = tr("Line {line}").format(line=line) + (f", {key}" if key else "")
        super().__init__(
            f"{where}: {what}", "Correct that line, or see docs/job-file.md for what a job file holds"
        )
        self.line, self.key, self.plain = line, key, what


class StorePart(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """A store in a job file.

    :param name: what people call its disk.
    :param label: volume label of the disk.
    :param uuid: UUID of its file system.
    :param share: address of a share.
    :param path: a directory, where none of the three is given.
    :param folder: the store's folder on that disk or share; in it, and in ``path``, ``{machine}`` and
        ``{user}`` stand for the names of the machine and the person.
    :param encrypted: whether a store that has to be made is encrypted.
    """

    name: str = ""
    label: str = ""
    uuid: str = ""
    share: str = ""
    path: str = ""
    folder: str = "good-tide/{machine}"
    encrypted: bool = True


class RhythmPart(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """The rhythm in a job file.

    :param every: such as ``1h`` or ``30 min``; empty: not by the clock.
    :param at: such as ``weekdays 12:30``, in this machine's zone.
    :param rules: further rules as RFC 5545 has them.
    :param on_disk: also when the disk comes.
    :param on_change: also when files came to rest.
    :param allowed: hours such as ``mon-fri 08:00-20:00``.
    :param considerate: what runs wait for. The others are as in ``rhythm.Rhythm``.
    """

    every: str = ""
    at: tuple[str, ...] = ()
    rules: tuple[str, ...] = ()
    on_disk: bool = False
    settle_seconds: int = _PLAIN.settle_seconds
    on_change: bool = False
    quiet_seconds: int = _PLAIN.quiet_seconds
    at_most_minutes: int = _PLAIN.at_most_minutes
    large_bytes: int = _PLAIN.large_bytes
    timed_only: tuple[str, ...] = ()
    allowed: tuple[str, ...] = ()
    spread_seconds: int | None = None
    considerate: Considerate = Considerate()

    def rhythm(self, zone: str) -> Rhythm:
        """The rhythm it stands for.

        Raises:
            PersonError: something in it cannot be understood.
        """
        rules = [every(parse_every(self.every))] if self.every else []
        for line in self.at:
            rules += parse_at(line, zone)
        made = Rhythm(rules=(*rules, *self.rules), **{name: getattr(self, name) for name in _SAME})
        made.check()
        return made


def rhythm_part(rhythm: Rhythm) -> RhythmPart:
    """A rhythm as a job file has it."""
    minutes = every_minutes_of(rhythm)
    at, others = [], []
    for rule in rhythm.rules:
        text = at_text(rule)
        if text:
            at.append(text)
        elif not is_every(rule):
            others.append(rule)
    return RhythmPart(
        every="" if minutes is None else f"{minutes} min" if minutes % 60 else f"{minutes // 60}h",
        at=tuple(at),
        rules=tuple(others),
        **{name: getattr(rhythm, name) for name in _SAME},
    )


class JobFile(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """A job file. Fields as in ``settings.Job``; ``ladder`` goes by rungs such as ``2d every``.

    :param mail: the mail server that reports go through, which is the machine's and not the job's.
    """

    format: int = FORMAT
    name: str
    folders: tuple[str, ...]
    rules: tuple[str, ...] = ()
    store_use: StoreUse = "both"
    rhythm: RhythmPart = RhythmPart(every="1h")
    holding: Holding = Holding()
    noise: Noise = "changes"
    reporting: Reporting = Reporting()
    ladder: tuple[str, ...] = ()
    room: Room = Room()
    precious: tuple[str, ...] = ()
    read_back_days: ReadBackDays = 30
    line: LineLimit = LineLimit()
    kinds: dict[str, tuple[str, ...]] = {}
    passphrase_file: str = ""
    mail: MailServer | None = None
    store: tuple[StorePart, ...] = ()

    def parsed_ladder(self) -> Ladder:
        """The ladder that its rungs make.

        Raises:
            PersonError: they make none.
        """
        made = Ladder(tuple(map(parse_rung, self.ladder)))
        made.check()
        return made


def parse_job_file(text: str) -> JobFile:
    """A job file from its text.

    Raises:
        JobFileError: where it is wrong, and how.
    """
    try:
        values = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"at line (\d+)", str(error))
        line = int(found[1]) if found else text.count("\n") + 1
        raise JobFileError(re.sub(r" \(at .*\)", "", str(error)), line) from error
    if values.get("format", FORMAT) != FORMAT:
        raise JobFileError(
            tr("format {values} is not one that this version reads").format(values=values["format"]),
            _line(text, ["format"]),
            "format",
        )
    try:
        found_file = msgspec.convert(values, JobFile)
    except msgspec.ValidationError as error:
        what, _, where = str(error).partition(" - at `$")
        steps: list[str | int] = [
            int(number) if number else name
            for name, number in re.findall(r"\.(\w+)|\[(\d+)\]", where.rstrip("`"))
        ]
        unknown = re.search(r"unknown field `(\w+)`", what)
        steps += [unknown[1]] if unknown else []
        raise JobFileError(_plain(what), _line(text, steps, values), _key(steps)) from error
    _check(found_file, text)
    return found_file


def _check(file: JobFile, text: str) -> None:
    if not file.name.strip():
        raise JobFileError(tr("the name is empty"), _line(text, ["name"]), "name")
    if not file.folders:
        raise JobFileError(tr("no folder is covered"), _line(text, ["folders"]), "folders")
    for name, endings in file.kinds.items():
        try:
            checked_kinds({name: endings})
        except PersonError as error:
            raise JobFileError(error.what, _line(text, ["kinds", name]), f"kinds.{name}") from error
    kinds = extended(file.kinds)
    for number, rule in enumerate(file.rules):
        try:
            parse_rule(rule, kinds)
        except RuleError as error:
            raise JobFileError(
                str(error).rstrip("."),
                _line(text, ["rules", number], {"rules": file.rules}),
                f"rules[{number}]",
            ) from error
    try:
        file.rhythm.rhythm("UTC")
    except PersonError as error:
        raise JobFileError(error.what, _line(text, ["rhythm"]), "rhythm") from error
    try:
        file.parsed_ladder()
    except PersonError as error:
        raise JobFileError(error.what, _line(text, ["ladder"]), "ladder") from error
    try:
        file.line.check()
    except PersonError as error:
        raise JobFileError(error.what, _line(text, ["line"]), "line") from error
    for number, pattern in enumerate(file.precious):
        try:
            parse_rule(f'exclude path "{pattern}"')
        except RuleError as error:
            where = _line(text, ["precious", number], {"precious": file.precious})
            raise JobFileError(str(error).rstrip("."), where, f"precious[{number}]") from error
    wrong = wrong_sizes(file.room, file.holding)
    if wrong:
        what = tr("{wrong} can be no less than 0").format(wrong=wrong) + (
            ", " + tr("and no more than 1") if "part" in wrong else ""
        )
        raise JobFileError(what, _line(text, list(wrong.split("."))), wrong)
    for number, store in enumerate(file.store):
        given = [name for name in ("label", "uuid", "share", "path") if getattr(store, name)]
        if len(given) != 1:
            raise JobFileError(
                tr("a store needs exactly one of label, uuid, share or path"),
                _line(text, ["store", number]),
                f"store[{number}]",
            )


def _plain(what: str) -> str:
    """The library's words for a value of the wrong type, as a sentence's part."""
    words = what.replace("Object contains unknown field", "there is no key").replace(
        "Object missing required field", "there is no"
    )
    for name, mine in (
        ("`str`", "text"),
        ("`int`", "a number"),
        ("`bool`", "true or false"),
        ("`array`", "a list"),
        ("`object`", "a table"),
    ):
        words = words.replace(name, mine)
    return words[:1].lower() + words[1:]


def _key(steps: list[str | int]) -> str:
    words = ""
    for step in steps:
        words += f"[{step}]" if isinstance(step, int) else f".{step}" if words else step
    return words


def _line(text: str, steps: list[str | int], values: Mapping[str, Any] | None = None) -> int:
    """The line on which a value is written, as near as can be told from the text."""
    lines = text.splitlines()
    at, value, table = 0, values, 0
    for step in steps:
        try:
            value = value[step] if value is not None else None  # type: ignore[index]
        except (KeyError, IndexError, TypeError):
            value = None
        if isinstance(step, str):
            pattern = re.compile(rf"\s*(\[+\s*)?[\"']?{re.escape(step)}[\"']?\s*(\]+|=)")
            at = next((number for number in range(at, len(lines)) if pattern.match(lines[number])), at)
            table = at
        elif lines and lines[table].lstrip().startswith("[["):
            heads = [number for number, line in enumerate(lines) if line.strip() == lines[table].strip()]
            at = heads[min(step, len(heads) - 1)]
        elif isinstance(value, str):
            plain = value.replace("\\", "\\\\").replace('"', '\\"')
            at = next(
                (
                    number
                    for number in range(at, len(lines))
                    if value in lines[number] or plain in lines[number]
                ),
                at,
            )
    return at + 1


def expand_folder(text: str, home: str, user_folders: Mapping[str, str]) -> str:
    """A folder as written in a job file, as an absolute path on this machine.

    :param user_folders: the XDG user directories by name, such as ``DOCUMENTS``.

    Raises:
        PersonError: its variable means nothing here.
    """
    if text == "~" or text.startswith("~/"):
        return home + text[1:]
    if text.startswith("$"):
        name, slash, rest = text[1:].partition("/")
        base = home if name == "HOME" else user_folders.get(name)
        if base is None:
            raise PersonError(
                tr("${name} means nothing on this machine").format(name=name),
                tr("Known are $HOME and ${sorted}").format(sorted=", $".join(sorted(user_folders))),
            )
        return base + slash + rest
    if not text.startswith("/"):
        raise PersonError(
            tr("{text!r} is not a whole path").format(text=text),
            tr("Begin folders with /, ~/ or a variable such as $DOCUMENTS"),
        )
    return text


def portable_folder(path: str, home: str, user_folders: Mapping[str, str]) -> str:
    """A folder's path as a job file has it: the inverse of ``expand_folder``."""
    for name, folder in sorted(user_folders.items()):
        if path == folder and folder != home:
            return f"${name}"
    if path == home or path.startswith(home + "/"):
        return "~" + path[len(home) :]
    return path


class Here(msgspec.Struct, frozen=True):
    """What differs from machine to machine, so that a job file leaves it open.

    :param home: the person's home folder. :param folders: the XDG user directories by name.
    :param machine: the name that ``{machine}`` stands for in the places of stores, empty: it is left as it
        is. :param user: the same for ``{user}``.
    :param labels: volume labels of disks by their ids, such as ``uuid:…``: they are used in their place.
    """

    home: str
    folders: Mapping[str, str] = {}
    machine: str = ""
    user: str = ""
    labels: Mapping[str, str] = {}

    def opened(self, path: str) -> str:
        """A path in which names of this machine are left open."""
        stands = {self.machine: "{machine}", self.user: "{user}"}
        return "/".join(stands.get(part, part) if part else part for part in path.split("/"))


def job_file(job: Job, encrypted: Mapping[str, bool], here: Here, mail: MailServer | None = None) -> JobFile:
    """A job as a job file has it.

    :param encrypted: by the path of a store, whether it is encrypted; those not known count as encrypted.
    """
    return JobFile(
        name=job.name,
        folders=tuple(portable_folder(folder, here.home, here.folders) for folder in job.folders),
        rules=job.rules,
        store_use=job.store_use,
        rhythm=rhythm_part(job.rhythm),
        holding=job.holding,
        noise=job.noise,
        reporting=job.reporting,
        ladder=tuple(rung.text() for rung in job.ladder.rungs),
        room=job.room,
        precious=job.precious,
        read_back_days=job.read_back_days,
        line=job.line,
        kinds=job.kinds,
        passphrase_file=portable_folder(job.passphrase_file, here.home, {}),
        mail=mail,
        store=tuple(_store_part(store, encrypted.get(store.path, True), here) for store in job.stores),
    )


def text_of(file: JobFile) -> str:
    """A job file's text."""
    return tomli_w.dumps({"format": FORMAT, **msgspec.to_builtins(file)}, multiline_strings=False)


def job_file_text(job: Job, encrypted: Mapping[str, bool], home: str, user_folders: Mapping[str, str]) -> str:
    """A job as the text of a job file, as it is on this machine.

    :param encrypted: by the path of a store, whether it is encrypted; those not known count as encrypted.
    """
    return text_of(job_file(job, encrypted, Here(home, user_folders)))


def _store_part(store: StoreRef, encrypted: bool, here: Here) -> StorePart:
    disk = f"label:{here.labels[store.disk]}" if store.disk in here.labels else store.disk
    kind, _, value = disk.partition(":")
    inside = here.opened(store.inside)
    if kind == "label":
        return StorePart(name=store.name, label=value, folder=inside, encrypted=encrypted)
    if kind == "uuid":
        return StorePart(name=store.name, uuid=value, folder=inside, encrypted=encrypted)
    if kind == "share":
        return StorePart(name=store.name, share=value, folder=inside, encrypted=encrypted)
    return StorePart(name=store.name, path=here.opened(store.path), folder="", encrypted=encrypted)


def store_ref(part: StorePart, machine: str, user: str = "") -> StoreRef:
    """Where a job file's store is to be found on this machine; a disk's mount point is found later."""

    def filled(text: str) -> str:
        return text.replace("{machine}", machine).replace("{user}", user)

    folder = filled(part.folder)
    for kind in ("label", "uuid", "share"):
        value = getattr(part, kind)
        if value:
            return StoreRef(path="", name=part.name or value, disk=f"{kind}:{value}", inside=folder)
    path = filled(part.path).rstrip("/") + (f"/{folder}" if folder else "")
    return StoreRef(path=path, name=part.name or path.rpartition("/")[2])
