"""Settings of a job one by one, by the keys that they have in a job file: two jobs compared, and a job with
other values."""

from __future__ import annotations

import difflib
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import msgspec
import tomli_w

from good_tide.core.errors import PersonError
from good_tide.core.jobfile import FORMAT, JobFile, JobFileError, StorePart, parse_job_file
from good_tide.core.rules import RuleError, parse_size
from good_tide.core.translation import tr

_YES, _NO = ("true", "yes", "on"), ("false", "no", "off")
_BY_OTHERS = ("format", "store", "mail")
"""Keys that have commands of their own."""


class Difference(NamedTuple):
    """A setting that differs, with both values in words; empty: there is none."""

    key: str
    before: str
    after: str

    @property
    def words(self) -> str:
        """As people read it."""
        return f"{self.key}: {self.before or 'none'} → {self.after or 'none'}"


def values(file: JobFile) -> dict[str, Any]:
    """All settings of a job file by their keys, such as ``rhythm.considerate.load``; also those that are as
    they are in a new job."""
    return dict(_flat(file, ""))


def _flat(value: Any, key: str) -> list[tuple[str, Any]]:
    if isinstance(value, msgspec.Struct) and not isinstance(value, StorePart):
        return [
            pair
            for name in value.__struct_fields__
            for pair in _flat(getattr(value, name), f"{key}.{name}" if key else name)
        ]
    if isinstance(value, dict):
        return [pair for name in value for pair in _flat(value[name], f"{key}.{name}")]
    return [(key, value)]


def words_of(value: Any) -> str:
    """A setting's value in words."""
    if isinstance(value, StorePart):
        kind = next((name for name in ("label", "uuid", "share", "path") if getattr(value, name)), "path")
        inside = f", folder {value.folder}" if value.folder else ""
        return f"{value.name + ': ' if value.name else ''}{kind} {getattr(value, kind)}{inside}"
    if isinstance(value, tuple):
        return "; ".join(map(words_of, value))
    if isinstance(value, bool):
        return "true" if value else "false"
    return "" if value is None else f"{value:,}" if isinstance(value, int) else str(value)


def differences(before: JobFile, after: JobFile) -> list[Difference]:
    """What differs between two job files. Of lists each line that came or went is told on its own."""
    old, new = values(before), values(after)
    found = []
    for key in dict.fromkeys((*old, *new)):
        one, other = old.get(key, ()), new.get(key, ())
        if one == other:
            continue
        if isinstance(one, tuple) and isinstance(other, tuple):
            gone = [Difference(key, words_of(item), "") for item in one if item not in other]
            came = [Difference(key, "", words_of(item)) for item in other if item not in one]
            moved = [Difference(key, words_of(one), words_of(other))]
            found += [*gone, *came] or moved
        else:
            found.append(Difference(key, words_of(one), words_of(other)))
    return found


def with_values(file: JobFile, assignments: Sequence[str]) -> JobFile:
    """A job file with other values.

    :param assignments: such as ``reporting.when=weekly`` or ``holding.limit_bytes=20 GiB``. A list is given
        by one assignment for each of its entries, and made empty by an empty one.

    Raises:
        PersonError: one names no setting, or its value cannot be understood.
    """
    known = values(file)
    given: dict[str, list[str]] = {}
    for assignment in assignments:
        key, equals, text = assignment.partition("=")
        if not equals:
            raise PersonError(
                tr("“{assignment}” sets nothing").format(assignment=assignment),
                tr("Write KEY=VALUE, such as reporting.when=weekly"),
            )
        key = key.strip()
        own_kind = key.startswith("kinds.") and key.count(".") == 1
        if (key not in known and not own_kind) or key in _BY_OTHERS or key.startswith("mail."):
            near = difflib.get_close_matches(key, known, 1, 0.5)
            advice = tr("“good-tide job show NAME --settings” lists them")
            raise PersonError(
                tr("There is no setting “{key}” to change so").format(key=key),
                tr("Did you mean {near}? {advice}").format(near=near[0], advice=advice)
                if near and near[0] not in _BY_OTHERS
                else advice,
            )
        given.setdefault(key, []).append(text.strip())
    tree: dict[str, Any] = msgspec.to_builtins(file)
    for key, texts in given.items():
        *path, last = key.split(".")
        at = tree
        for step in path:
            at = at.setdefault(step, {})
        value = _value(key, known.get(key, ()), texts)
        if value is None or (value == [] and path == ["kinds"]):
            at.pop(last, None)
        else:
            at[last] = value
    return _read_again(tree)


def _value(key: str, now: Any, texts: list[str]) -> Any:
    """What a text on the command line means for a setting, by what it is now."""
    if isinstance(now, tuple):
        return [text for text in texts if text]
    if len(texts) > 1:
        raise PersonError(
            tr("{key} is given {texts} times").format(key=key, texts=len(texts)), tr("It has one value only")
        )
    (text,) = texts
    if isinstance(now, bool):
        if text.lower() not in _YES + _NO:
            raise PersonError(
                tr("{key} is true or false, not “{text}”").format(key=key, text=text),
                tr("Write true or false"),
            )
        return text.lower() in _YES
    if isinstance(now, (int, float)) or (now is None and text):
        return _number(key, now, text)
    return text or (None if now is None else "")


def _number(key: str, now: Any, text: str) -> int | float:
    if key.endswith("_bytes") and not text.isdigit():
        try:
            return parse_size(text)
        except RuleError as error:
            raise PersonError(f"{key}: {error.what}", error.advice) from error
    try:
        return float(text) if isinstance(now, float) else int(text)
    except ValueError:
        raise PersonError(
            tr("{key} is a number, not “{text}”").format(key=key, text=text), tr("Write a number")
        ) from None


def _read_again(tree: Mapping[str, Any]) -> JobFile:
    """The job file of these values, checked as one that is read from a file."""
    try:
        return parse_job_file(tomli_w.dumps({"format": FORMAT, **tree}))
    except JobFileError as error:
        raise PersonError(
            f"{error.key}: {error.plain}" if error.key else error.plain, tr("Choose another value")
        ) from None
