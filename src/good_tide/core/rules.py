"""Rules of coverage as people write them: one line each. ``docs/coverage-rules.md`` explains the language."""

from __future__ import annotations

import re
import shlex
import warnings
from collections.abc import Mapping, Sequence

import msgspec

from good_tide.core.errors import PersonError
from good_tide.core.kinds import KINDS, Kind
from good_tide.core.translation import tr
from good_tide.core.words import number_words

MARKERS: Mapping[str, str] = {
    "cachedir": tr("folders with a CACHEDIR.TAG file, which programs put into their caches"),
    "other-file-system": tr("folders on another file system than the covered folder"),
    "network-mount": tr("network shares mounted inside"),
    "trash": tr("trash folders of the desktop"),
}
"""Markers of folders, and what each stands for."""

_SIZE_UNITS = {
    "B": 1,
    "KB": 10**3,
    "MB": 10**6,
    "GB": 10**9,
    "TB": 10**12,
    "KIB": 2**10,
    "MIB": 2**20,
    "GIB": 2**30,
    "TIB": 2**40,
}
_DAY = 86400
_AGE_UNITS = {"hour": 3600, "day": _DAY, "week": 7 * _DAY, "month": 2_629_800, "year": 31_557_600}
_LONGEST_LINE = 4096


class RuleError(PersonError):
    """A line that is no rule; ``line`` counts from 1, 0 where there is only one."""

    def __init__(self, what: str, advice: str, line: int = 0) -> None:
        super().__init__(tr("Line {line}: {what}").format(line=line, what=what) if line else what, advice)
        self.line = line


class Rule(msgspec.Struct, frozen=True, omit_defaults=True):
    """One rule. All its conditions must hold; None or empty means no such condition.

    :param path: a pattern in the language of gitignore, from the covered folder; after ``~/`` from the home
        folder.
    :param larger: bytes; files of more.
    :param smaller: bytes; files of less.
    :param older: seconds; files last changed longer ago.
    :param newer: seconds; files changed since.
    """

    include: bool
    path: str = ""
    kind: str = ""
    marker: str = ""
    larger: int | None = None
    smaller: int | None = None
    older: int | None = None
    newer: int | None = None

    @property
    def text(self) -> str:
        """The rule as a line; ``parse_rule`` of it gives the rule back."""
        words = ["include" if self.include else "exclude"]
        words += ["path", _quoted(self.path)] if self.path else []
        words += ["kind", self.kind] if self.kind else []
        words += ["marker", self.marker] if self.marker else []
        words += (
            [tr("larger {size_text}").format(size_text=_size_text(self.larger))]
            if self.larger is not None
            else []
        )
        words += (
            [tr("smaller {size_text}").format(size_text=_size_text(self.smaller))]
            if self.smaller is not None
            else []
        )
        words += (
            [tr("older {age_text}").format(age_text=_age_text(self.older))] if self.older is not None else []
        )
        words += (
            [tr("newer {age_text}").format(age_text=_age_text(self.newer))] if self.newer is not None else []
        )
        return " ".join(words)

    @property
    def of_files(self) -> bool:
        """Whether a condition can be judged for single files only."""
        return bool(self.kind) or any(
            limit is not None for limit in (self.larger, self.smaller, self.older, self.newer)
        )


def _quoted(pattern: str) -> str:
    if pattern and not re.search(r"[\s\"'\\#]", pattern):
        return pattern
    return '"' + pattern.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _size_text(size: int) -> str:
    for unit in ("TiB", "GiB", "MiB", "KiB", "TB", "GB", "MB", "KB"):
        step = _SIZE_UNITS[unit.upper()]
        if size and size % step == 0:
            return f"{size // step} {unit}"
    return f"{size} B"


def _age_text(seconds: int) -> str:
    for unit in ("year", "month", "week", "day", "hour"):
        step = _AGE_UNITS[unit]
        if seconds % step == 0:
            count = seconds // step
            return f"{count} {unit}{'' if count == 1 else 's'}"
    return tr("{seconds} hours").format(seconds=seconds // 3600)


def parse_rule(line: str, kinds: Mapping[str, Kind] = KINDS) -> Rule:
    """One rule from its line, with the kinds of files that there are.

    Raises:
        RuleError: it is none, and why.
    """
    if len(line) > _LONGEST_LINE:
        raise RuleError(
            tr("a rule of {line} characters").format(line=number_words(len(line))),
            tr("Keep a rule under {LONGEST_LINE}").format(LONGEST_LINE=number_words(_LONGEST_LINE)),
        )
    try:
        lexer = shlex.shlex(line, posix=True, punctuation_chars=False)
        lexer.whitespace_split, lexer.commenters, lexer.quotes, lexer.escapedquotes, lexer.escape = (
            True,
            "",
            '"',
            '"',
            "\\",
        )
        words = _split(lexer, line)
    except ValueError as error:
        raise RuleError(
            tr("{strip!r}: a quotation mark is open").format(strip=line.strip()),
            tr('Write patterns with spaces as "Old drafts/"'),
        ) from error
    if not words or words[0] not in ("include", "exclude"):
        raise RuleError(
            tr("{strip!r} does not begin with include or exclude").format(strip=line.strip()),
            tr("For example: exclude path Downloads/"),
        )
    values: dict[str, str | int] = {}
    rest = words[1:]
    if not rest:
        raise RuleError(
            tr("a rule without a condition"),
            tr("Say what it catches: path, kind, marker, larger, smaller, older or newer"),
        )
    while rest:
        name, *rest = rest
        if name in values:
            raise RuleError(tr("“{name}” is given twice").format(name=name), tr("Write two rules instead"))
        if name in ("path", "kind", "marker") and rest and rest[0]:
            values[name], *rest = rest
        elif name in ("larger", "smaller", "older", "newer") and rest:
            amount, rest = _amount(rest)
            values[name] = parse_size(amount) if name in ("larger", "smaller") else _age(amount)
        elif name in ("path", "kind", "marker", "larger", "smaller", "older", "newer"):
            raise RuleError(
                tr("nothing comes after “{name}”").format(name=name), tr("For example: exclude larger 2 GiB")
            )
        else:
            raise RuleError(
                tr("“{name}” is no condition").format(name=name),
                tr("Conditions are path, kind, marker, larger, smaller, older, newer"),
            )
    return checked(msgspec.convert({"include": words[0] == "include", **values}, Rule), kinds)


def _split(lexer: shlex.shlex, line: str) -> list[str]:
    """Words of a line. A backslash outside quotation marks belongs to the pattern (gitignore needs it)."""
    if '"' not in line:
        return line.split()
    return list(lexer)


def _amount(words: list[str]) -> tuple[str, list[str]]:
    """A number with its unit, joined or as two words, and the words after it."""
    first, *rest = words
    if re.fullmatch(r"[\d.]+", first) and rest:
        return f"{first} {rest[0]}", rest[1:]
    return first, rest


def parse_size(text: str) -> int:
    found = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([A-Za-z]+)", text)
    unit = found[2].upper() if found else ""
    if found is None or unit not in _SIZE_UNITS:
        raise RuleError(
            tr("“{text}” is not a size").format(text=text), tr("Write sizes like 500 KiB, 20 MB or 2 GiB")
        )
    return int(float(found[1]) * _SIZE_UNITS[unit])


def _age(text: str) -> int:
    found = re.fullmatch(r"(\d+)\s*([A-Za-z]+?)s?", text)
    if found is None or found[2].lower() not in _AGE_UNITS:
        raise RuleError(
            tr("“{text}” is not an age").format(text=text),
            tr("Write ages like 12 hours, 30 days, 6 months or 2 years"),
        )
    return int(found[1]) * _AGE_UNITS[found[2].lower()]


def checked(rule: Rule, kinds: Mapping[str, Kind] = KINDS) -> Rule:
    """A rule whose words all mean something.

    Raises:
        RuleError: one does not.
    """
    if rule.kind and rule.kind not in kinds:
        raise RuleError(
            tr("there is no kind “{kind}”").format(kind=rule.kind),
            tr("Kinds are {kinds}").format(kinds=", ".join(kinds)),
        )
    if rule.marker and rule.marker not in MARKERS:
        raise RuleError(
            tr("there is no marker “{marker}”").format(marker=rule.marker),
            tr("Markers are {MARKERS}").format(MARKERS=", ".join(MARKERS)),
        )
    if rule.marker and (rule.path or rule.of_files):
        raise RuleError(
            tr("a marker stands alone in a rule"),
            tr("It is about folders; write the other conditions as rules of their own"),
        )
    if rule.path:
        pattern_regex(rule.path)
    return rule


def pattern_regex(pattern: str) -> str:
    """A gitignore pattern as a regular expression over a path from the pattern's folder; folders end with a
    slash.

    Raises:
        RuleError: it is no pattern.
    """
    from pathspec.patterns.gitignore.spec import GitIgnoreSpecPattern  # loads slowly; most have no patterns

    inner = pattern[1:] if pattern.startswith("~/") else pattern
    if pattern.startswith("!"):
        raise RuleError(
            tr("“{pattern}” begins with !").format(pattern=pattern),
            tr("Write an include rule above instead, or \\! for a name that begins so"),
        )
    try:
        regex: str | None = GitIgnoreSpecPattern.pattern_to_regex(inner)[0]
    except ValueError as error:
        raise RuleError(
            tr("“{pattern}” is not a pattern ({error})").format(pattern=pattern, error=error),
            tr("Patterns are those of gitignore: * ? [a-z] ** and / at the end"),
        ) from error
    if regex is None:
        raise RuleError(
            tr("“{pattern}” catches nothing").format(pattern=pattern),
            tr("Patterns are those of gitignore; write \\# or \\[ for such characters themselves"),
        )
    regex = regex.replace("(?P<ps_d>/)", "/").removeprefix("^")
    regex = regex[:-2] + r"\Z)" if regex.endswith("$)") else regex
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            re.compile(regex)
    except (re.error, FutureWarning) as error:
        raise RuleError(
            tr("“{pattern}” has a set of characters that cannot be read").format(pattern=pattern),
            tr("Write sets like [abc] or [a-z]; [[:alpha:]] is not known"),
        ) from error
    return regex


def parse_rules(text: str, kinds: Mapping[str, Kind] = KINDS) -> list[Rule]:
    """Rules from a file: one a line; empty lines, and lines that begin with ``#``, say nothing.

    Raises:
        RuleError: the first line that is no rule, with its number.
    """
    rules = []
    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip()
        if stripped and not stripped.startswith("#"):
            try:
                rules.append(parse_rule(stripped, kinds))
            except RuleError as error:
                raise RuleError(error.what, error.advice, number) from error
    return rules


def literal_pattern(name: str) -> str:
    """A pattern that catches exactly this name; ``?`` stands for bytes that are no text, for characters that
    end a line, and for blanks other than the plain one, which readers of patterns take away."""
    escaped = re.sub(r"([\\*?\[\]])", r"\\\1", name)
    escaped = re.sub("[\udc80-\udcff\x00-\x1f\x7f-\x9f]|[^\\S ]", "?", escaped)
    escaped = re.sub(r"( +)$", lambda found: "\\ " * len(found[1]), escaped)
    return "\\" + escaped if escaped.startswith(("!", "#")) else escaped


def path_pattern(path: str, home: str, covered: Sequence[str]) -> str:
    """A pattern for exactly one path in the covered folders, without the slash of a folder: from the home
    folder where it lies in it, else from the covered folder; empty for a covered folder itself."""
    if home and path.startswith(home.rstrip("/") + "/"):
        return "~/" + "/".join(map(literal_pattern, path[len(home.rstrip("/")) + 1 :].split("/")))
    outer = next((folder for folder in covered if path.startswith(folder.rstrip("/") + "/")), "")
    inner = path[len(outer) :].strip("/")
    return "/" + "/".join(map(literal_pattern, inner.split("/"))) if inner else ""
