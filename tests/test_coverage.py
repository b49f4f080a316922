"""Rules of coverage: the language, and decisions against a slow and obvious model."""

from __future__ import annotations

import posixpath

import pathspec
from hypothesis import example, given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SECOND
from good_tide.core.coverage import NONE, Coverage, FolderState
from good_tide.core.kinds import KINDS, ending
from good_tide.core.rules import Rule, RuleError, literal_pattern, parse_rule, parse_rules
from tests.base import GoodTideTest

HOME, ROOT = "/home/ada", "/home/ada/Office"
NOW = 1_790_000_000 * SECOND


class LanguageTest(GoodTideTest):
    def test_rules_are_read_and_written_back(self) -> None:
        for line in (
            "exclude path Downloads/",
            'exclude path "Old drafts/*.txt" larger 2 MiB',
            "include kind pictures smaller 500 KB",
            "exclude marker cachedir",
            "exclude kind video older 2 years",
            "exclude newer 12 hours",
            "exclude path \\#notes\\#",
            'exclude path "a \\"b\\" c"',
        ):
            with self.subTest(line):
                rule = parse_rule(line)
                self.assertEqual(parse_rule(rule.text), rule)
        self.assertEqual(parse_rule("exclude larger 1.5GiB").larger, 1536 * 2**20)
        self.assertEqual(parse_rules("# mine\n\nexclude path a\r\n"), [Rule(False, path="a")])

    def test_what_is_no_rule_says_why_and_where(self) -> None:
        for line, words in {
            "drop path a": "include or exclude",
            "exclude": "without a condition",
            "exclude path": "nothing comes after",
            'exclude path ""': "nothing comes after",
            'exclude marker "" larger 1 GiB': "nothing comes after",
            "exclude larger big": "not a size",
            "exclude older 3": "not an age",
            "exclude colour red": "no condition",
            "exclude kind films": "no kind",
            "exclude marker sign": "no marker",
            "exclude path a path b": "twice",
            'exclude path "a': "quotation mark",
            "exclude path !a": "include rule above",
            "exclude path [": "catches nothing",
            "exclude path [z-a]": "set of characters",
            "exclude path [[:alpha:]]": "set of characters",
            "exclude path a\\": "is not a pattern",
            "exclude marker trash larger 1 KB": "stands alone",
            "exclude path " + "a" * 5000: "characters",
        }.items():
            with self.subTest(line[:40]), self.assertRaises(RuleError) as caught:
                parse_rule(line)
            self.assertIn(words, str(caught.exception))
        with self.assertRaises(RuleError) as caught:
            parse_rules("exclude path a\n\nexclude path [\n")
        self.assertEqual(caught.exception.line, 3)

    def test_ten_thousand_rules_are_read_and_decide(self) -> None:
        text = "\n".join(f"exclude path folder{number}/part*/file{number}.txt" for number in range(10_000))
        coverage = Coverage(parse_rules(text), HOME, NOW)
        state = coverage.enter(coverage.enter(coverage.enter_covered(ROOT), "folder77"), "part 3")
        self.assertEqual(coverage.files(state, ["file77.txt", "file78.txt"], [1, 1], [0, 0]), [77, NONE])

    def test_a_literal_pattern_catches_its_name_and_no_other(self) -> None:
        for name in ("a", "a*b", "[x]", "!a", "#a", "a b ", "a\\b", "ä?"):
            with self.subTest(name):
                coverage = Coverage([Rule(False, path=literal_pattern(name))])
                found = coverage.files(coverage.enter_covered("/x"), [name, name + "x"], [0, 0], [0, 0])
                self.assertEqual(found, [0, NONE])


_TEXT = st.text(st.characters(exclude_characters="/\0", exclude_categories=["Cs"]), min_size=1, max_size=12)
_FILE_NAMES = _TEXT.filter(lambda name: name not in (".", "..")) | st.sampled_from(
    ["**", "a*", " ", "a ", " a", "\\", "\\ ", "[", "]a[", "#", "!x", "~", "-", "a\nb", "?"]
)


class WrittenRulesTest(GoodTideTest):
    @settings(max_examples=300)
    @given(_FILE_NAMES, _FILE_NAMES)
    @example("\xa0", "0")
    @example("a\u3000", "a")
    def test_the_pattern_of_a_name_survives_being_written_and_catches_that_name_only(
        self, name: str, other: str
    ) -> None:
        rule = parse_rule(Rule(False, path="~/" + literal_pattern("sub") + "/" + literal_pattern(name)).text)
        coverage = Coverage([rule], HOME)
        state = coverage.enter(coverage.enter_covered(HOME), "sub")
        names = [name, *([other] if other != name and "?" not in literal_pattern(name) else [])]
        found = coverage.files(state, names, [0] * len(names), [0] * len(names))
        self.assertEqual(found, [0, NONE][: len(names)], rule.text)

    @settings(max_examples=200)
    @given(
        st.booleans(),
        st.just("") | st.sampled_from(["a b", "*.txt", '"', "\\#x", "a\\ ", "~/x y/", "'"]),
        st.sampled_from(["", "video"]),
        st.none() | st.integers(0, 2**50),
        st.none() | st.integers(0, 2**50),
        st.none() | st.integers(1, 10_000).map(lambda hours: hours * 3600),
    )
    def test_every_rule_is_read_back_as_it_was_written(
        self, include: bool, path: str, kind: str, larger: int | None, smaller: int | None, older: int | None
    ) -> None:
        rule = Rule(include, path=path, kind=kind, larger=larger, smaller=smaller, older=older)
        if rule.path or rule.of_files:
            self.assertEqual(parse_rule(rule.text), rule)


def holds(rule: Rule, path: str, folder: bool, size: int, modified: int) -> bool:
    """Whether a rule's path condition holds for one thing, by the pattern library itself."""
    if rule.path.startswith("~/"):
        pattern, where = rule.path[1:], posixpath.join(ROOT, path)[len(HOME) + 1 :]
    else:
        pattern, where = rule.path, path
    if not where:
        return False
    return pathspec.GitIgnoreSpec.from_lines([pattern]).match_file(where + ("/" if folder else ""))


def obvious(rules: list[Rule], path: str, size: int, modified: int) -> int:
    """The first rule, from the top, that catches a file or a folder above it: written without a thought for
    speed."""
    parts = path.split("/")
    above = ["/".join(parts[:count]) for count in range(len(parts))]
    for number, rule in enumerate(rules):
        if (
            rule.path
            and not holds(rule, path, False, size, modified)
            and not any(holds(rule, one, True, 0, 0) for one in above)
        ):
            continue
        if rule.path.startswith("~/") and not rule.path.strip("~/"):
            continue
        name, kind = parts[-1], KINDS.get(rule.kind)
        if kind is not None:
            in_folder = not rule.path and any(part in kind.folders for part in parts[:-1])
            if not in_folder and not kind.catches(name):
                continue
        age = (NOW - modified) / SECOND
        if (rule.larger is not None and size <= rule.larger) or (
            rule.smaller is not None and size >= rule.smaller
        ):
            continue
        if (rule.older is not None and age <= rule.older) or (rule.newer is not None and age > rule.newer):
            continue
        return number
    return NONE


NAMES = st.sampled_from(
    ["a", "b", "Cues", "x.txt", "y.TXT", "film.mp4", ".cache", "old~", "a b", "n\newline", "[1]", "tmp.d"]
)
PATTERNS = st.sampled_from(
    [
        "a",
        "a/",
        "/a",
        "a/b",
        "*.txt",
        "*.TXT",
        "x.*",
        "**/b",
        "a/**",
        "/*/b/",
        "Cues/x.txt",
        "~/Office/a/",
        "~/Office/*/b",
        "~/Office",
        "?",
        "*.d",
        "[ab]",
        "\\[1\\]",
        "a b",
        "*",
        "~/Elsewhere/a",
        "n*",
    ]
)
RULES = st.builds(
    Rule,
    include=st.booleans(),
    path=st.just("") | PATTERNS,
    kind=st.just("") | st.sampled_from(["documents", "video", "temporary"]),
    larger=st.none() | st.just(10),
    older=st.none() | st.just(3600),
).filter(lambda rule: bool(rule.path or rule.kind or rule.larger or rule.older))


class DecisionTest(GoodTideTest):
    @settings(max_examples=400)
    @given(
        st.lists(RULES, max_size=5),
        st.lists(NAMES, min_size=1, max_size=4),
        st.sampled_from([0, 11]),
        st.sampled_from([0, 7200]),
    )
    def test_decisions_are_those_of_the_obvious_model(
        self, rules: list[Rule], parts: list[str], size: int, age: int
    ) -> None:
        coverage = Coverage(rules, HOME, NOW)
        state: FolderState = coverage.enter_covered(ROOT)
        closed = not state.open
        for part in parts[:-1]:
            state = coverage.enter(state, part)
            closed = closed or not state.open
        modified = NOW - age * SECOND
        wanted = obvious(rules, "/".join(parts), size, modified)
        self.assertEqual(coverage.files(state, [parts[-1]], [size], [modified]), [wanted])
        if closed:
            self.assertTrue(
                coverage.is_out(wanted), "a folder that was passed over held something that is in"
            )

    def test_endings_do_not_regard_capitals_and_a_hidden_name_has_none(self) -> None:
        self.assertEqual(
            [ending(name) for name in ("A.TXT", ".bashrc", "a.tar.gz", "plain", "x.")],
            ["txt", "", "gz", "", ""],
        )
