"""What is in and what is out. The first rule from the top that catches a thing decides; what none catches is
in.

A rule catches a thing when its conditions hold for it, or, for path and marker, for a folder above it.
"""

from __future__ import annotations

import enum
import fnmatch
import re
from collections.abc import Iterable, Mapping, Sequence
from typing import NamedTuple

from good_tide.core.clock import SECOND
from good_tide.core.kinds import KINDS, Kind
from good_tide.core.rules import Rule, pattern_regex

NONE = -1
"""In place of a rule's position: no rule catches it, so it is in."""

_WILD = re.compile(r"[*?\[\\]")
_TRASH = re.compile(r"\.Trash(-\d+)?\Z")
_NO_RULES: tuple[int, ...] = ()


class Covered(enum.StrEnum):
    """How much of a folder is in."""

    IN = "in"
    OUT = "out"
    PARTLY = "partly"


class FolderSigns(NamedTuple):
    """What a folder shows of itself: markers that rules can catch."""

    cachedir: bool = False
    other_file_system: bool = False
    network_mount: bool = False


NO_SIGNS = FolderSigns()


class FolderState(NamedTuple):
    """Where a walk stands.

    :param path: from the covered folder, with a slash at the end; empty for the covered folder itself.
    :param home_path: the same from the home folder, None outside it.
    :param caught: positions of the rules that catch this folder or one above, up to the first that decides
        alone.
    :param rule: position of the rule that decides for the folder itself, or ``NONE``.
    :param out: whether the folder itself is out.
    :param open: whether something inside may be in.
    """

    path: str
    home_path: str | None
    caught: tuple[int, ...]
    rule: int
    out: bool
    open: bool


class Coverage:
    """Rules made ready for many decisions.

    :param home: the home folder that ``~/`` stands for, without a slash at the end.
    :param now: nanoseconds since 1970 UTC; ages count from it.
    """

    def __init__(
        self, rules: Sequence[Rule], home: str = "", now: int = 0, kinds: Mapping[str, Kind] = KINDS
    ) -> None:
        self.rules = tuple(rules)
        self._home, self.kinds, self._now = home.rstrip("/"), kinds, now
        self._ages = [age * SECOND for rule in rules for age in (rule.older, rule.newer) if age is not None]
        self._limits = [_limits(rule, now) for rule in rules]
        self._kind_endings: dict[str, tuple[int, ...]] = {}
        self._pattern_endings: dict[str, tuple[int, ...]] = {}
        self._by_name: dict[str, tuple[int, ...]] = {}
        self._name_patterns: list[tuple[int, re.Pattern[str]]] = []
        self._kind_patterns: list[tuple[int, re.Pattern[str]]] = []
        self._literal: dict[str, tuple[int, ...]] = {}
        self._home_literal: dict[str, tuple[int, ...]] = {}
        self._path_patterns: list[tuple[int, re.Pattern[str]]] = []
        self._home_patterns: list[tuple[int, re.Pattern[str]]] = []
        self._by_marker: dict[str, tuple[int, ...]] = {}
        self._by_folder_name: dict[str, tuple[int, ...]] = {}
        self._always: tuple[int, ...] = ()
        for number, rule in enumerate(rules):
            self._file_away(number, rule)
        self._any_name = _joined(self._name_patterns)
        self._any_file = _joined([*self._name_patterns, *self._kind_patterns])
        self._any_path = _joined(self._path_patterns)
        self._any_home = _joined(self._home_patterns)

    def _file_away(self, number: int, rule: Rule) -> None:
        """Put a rule where decisions find it by its most telling condition."""
        if rule.path:
            self._file_pattern(number, rule.path)
        elif rule.marker:
            _put(self._by_marker, rule.marker, number)
        elif rule.kind:
            kind = self.kinds[rule.kind]
            for one in kind.endings:
                _put(self._kind_endings, one, number)
            for folder in kind.folders:
                _put(self._by_folder_name, folder, number)
            for name in kind.names:
                if _WILD.search(name):
                    self._kind_patterns.append((number, re.compile(fnmatch.translate(name))))
                else:
                    _put(self._by_name, name, number)
        else:
            self._always += (number,)

    def _file_pattern(self, number: int, pattern: str) -> None:
        of_home = pattern.startswith("~/")
        inner = pattern[1:] if of_home else pattern
        body = inner.rstrip("/")
        if "/" in body:
            plain = not _WILD.search(inner) and inner == inner.strip()
            key = inner.strip("/") + ("/" if inner.endswith("/") else "")
            if plain:
                literal = self._home_literal if of_home else self._literal
                _put(literal, key, number)
                if not inner.endswith("/"):
                    _put(literal, key + "/", number)
            else:
                (self._home_patterns if of_home else self._path_patterns).append((number, _compiled(pattern)))
        elif re.fullmatch(r"\*\.[^*?\[\\./\s]+", inner):
            _put(self._pattern_endings, inner[2:], number)
        elif not _WILD.search(inner) and not inner.endswith("/"):
            _put(self._by_name, inner, number)
            _put(self._by_folder_name, inner, number)
        elif not _WILD.search(inner):
            _put(self._by_folder_name, body, number)
        else:
            self._name_patterns.append((number, _compiled(pattern)))

    def enter_covered(self, path: str, signs: FolderSigns = NO_SIGNS) -> FolderState:
        """The state in a covered folder itself, given by its absolute path."""
        home_path: str | None = None
        caught: list[int] = []
        if self._home and (path == self._home or path.startswith(self._home + "/")):
            parts = path[len(self._home) + 1 :].split("/") if path != self._home else []
            home_path = ""
            for part in parts:
                home_path += part + "/"
                caught += self._home_rules(home_path)
        caught += self._marked("", "", signs)
        return self._state("", home_path, caught)

    def enter(self, above: FolderState, name: str, signs: FolderSigns = NO_SIGNS) -> FolderState:
        """The state in a folder of that name."""
        path = above.path + name + "/"
        home_path = None if above.home_path is None else above.home_path + name + "/"
        caught = list(above.caught)
        caught += self._by_folder_name.get(name, _NO_RULES)
        if self._any_name is not None and self._any_name.match(name + "/"):
            caught += [number for number, pattern in self._name_patterns if pattern.match(name + "/")]
        if "." in name:
            caught += self._pattern_endings.get(name.rpartition(".")[2], _NO_RULES)
        caught += self._literal.get(path, _NO_RULES)
        if self._any_path is not None and self._any_path.match(path):
            caught += [number for number, pattern in self._path_patterns if pattern.match(path)]
        if home_path is not None:
            caught += self._home_rules(home_path)
        caught += self._marked(above.path, name, signs)
        return self._state(path, home_path, caught)

    def _home_rules(self, home_path: str) -> list[int]:
        found = list(self._home_literal.get(home_path, _NO_RULES))
        if self._any_home is not None and self._any_home.match(home_path):
            found += [number for number, pattern in self._home_patterns if pattern.match(home_path)]
        return found

    def _marked(self, above: str, name: str, signs: FolderSigns) -> list[int]:
        if not self._by_marker:
            return []
        found: list[int] = []
        trash = _TRASH.match(name) is not None or (name == "Trash" and above.endswith(".local/share/"))
        for marker, there in (
            ("cachedir", signs.cachedir),
            ("other-file-system", signs.other_file_system),
            ("network-mount", signs.network_mount),
            ("trash", trash),
        ):
            if there:
                found += self._by_marker.get(marker, _NO_RULES)
        return found

    def _state(self, path: str, home_path: str | None, caught: list[int]) -> FolderState:
        kept: list[int] = []
        rule = NONE
        for number in sorted(set(caught)):
            kept.append(number)
            if self._decides_folder(number):
                rule = number
                break
        out = rule != NONE and not self.rules[rule].include
        is_open = not out or any(
            self._may_include(number, path, home_path) for number in range(rule) if self.rules[number].include
        )
        return FolderState(path, home_path, tuple(kept), rule, out, is_open)

    def _decides_folder(self, number: int) -> bool:
        """Whether a rule that catches a folder decides for all inside. A kind found by a folder's name
        does."""
        rule = self.rules[number]
        return not rule.of_files or (
            bool(rule.kind) and not rule.path and all(limit is None for limit in self._limits[number])
        )

    def _may_include(self, number: int, path: str, home_path: str | None) -> bool:
        """Whether an include rule can catch something below a folder. Rather yes than no."""
        rule = self.rules[number]
        if rule.marker and not rule.path:
            return True
        of_home = rule.path.startswith("~/")
        inner = rule.path[1:] if of_home else rule.path
        where = home_path if of_home else path
        if "/" not in inner.rstrip("/"):
            return True
        if where is None:
            return False
        wanted, there = inner.strip("/").split("/"), where.rstrip("/").split("/") if where else []
        for mine, theirs in zip(wanted, there):
            if _WILD.search(mine):
                return True
            if mine != theirs:
                return False
        return True

    def files(
        self, state: FolderState, names: Sequence[str], sizes: Sequence[int], modified: Sequence[int]
    ) -> list[int]:
        """For each file directly in a folder: the position of the rule that decides, or ``NONE``.

        :param sizes: bytes. :param modified: nanoseconds since 1970 UTC.
        """
        caught = state.caught
        base = caught + self._always if self._always else caught
        literal, home_literal = self._literal, self._home_literal if state.home_path is not None else {}
        any_file, any_path = self._any_file, self._any_path
        any_home = self._any_home if state.home_path is not None else None
        pattern_endings, kind_endings, by_name = self._pattern_endings, self._kind_endings, self._by_name
        path, home_path = state.path, state.home_path
        decided: list[int] = []
        for name, size, changed in zip(names, sizes, modified, strict=True):
            found = base
            stem, dot, last = name.rpartition(".")
            if dot:
                if last in pattern_endings:
                    found = found + pattern_endings[last]
                if stem and (small := last.lower()) in kind_endings:
                    found = found + kind_endings[small]
            if name in by_name:
                found = found + by_name[name]
            if any_file is not None and any_file.match(name):
                found = found + tuple(
                    number for number, pattern in self._name_patterns if pattern.match(name)
                )
                found = found + tuple(
                    number for number, pattern in self._kind_patterns if pattern.match(name)
                )
            if literal:
                found = found + literal.get(path + name, _NO_RULES)
            if any_path is not None and any_path.match(path + name):
                found = found + tuple(
                    number for number, pattern in self._path_patterns if pattern.match(path + name)
                )
            if home_literal:
                found = found + home_literal.get(f"{home_path}{name}", _NO_RULES)
            if any_home is not None and any_home.match(f"{home_path}{name}"):
                found = found + tuple(
                    number for number, pattern in self._home_patterns if pattern.match(f"{home_path}{name}")
                )
            decided.append(self._first(found, name, size, changed) if found else NONE)
        return decided

    def _first(self, found: tuple[int, ...], name: str, size: int, modified: int) -> int:
        """The first of some rules whose conditions on single files hold."""
        for number in sorted(found) if len(found) > 1 else found:
            rule = self.rules[number]
            larger, smaller, before, since = self._limits[number]
            if (
                (larger is None or size > larger)
                and (smaller is None or size < smaller)
                and (before is None or modified < before)
                and (since is None or modified >= since)
                and (not rule.path or not rule.kind or self.kinds[rule.kind].catches(name))
            ):
                return number
        return NONE

    def turn(self, modified: Iterable[int]) -> int:
        """When an age limit next turns for one of some files, ns since 1970 UTC: what is decided of them may
        be another from then on. 0: never.

        :param modified: nanoseconds since 1970 UTC.
        """
        if not self._ages:
            return 0
        turns = [at + age + 1 for at in modified for age in self._ages if at + age >= self._now]
        return min(turns, default=0)

    def is_out(self, rule: int) -> bool:
        """Whether what a rule decides is out."""
        return rule != NONE and not self.rules[rule].include


def _limits(rule: Rule, now: int) -> tuple[int | None, int | None, int | None, int | None]:
    """Larger than, smaller than (bytes), changed before, changed since (nanoseconds since 1970 UTC)."""
    before = None if rule.older is None else now - rule.older * SECOND
    since = None if rule.newer is None else now - rule.newer * SECOND
    return rule.larger, rule.smaller, before, since


def _compiled(pattern: str) -> re.Pattern[str]:
    return re.compile(pattern_regex(pattern), re.DOTALL)


def _joined(patterns: Iterable[tuple[int, re.Pattern[str]]]) -> re.Pattern[str] | None:
    """One expression that matches where any of them does, to pass over most names at once."""
    every = [pattern.pattern for _, pattern in patterns]
    return re.compile("|".join(f"(?:{one})" for one in every), re.DOTALL) if every else None


def _put(table: dict[str, tuple[int, ...]], key: str, number: int) -> None:
    table[key] = (*table.get(key, ()), number)
