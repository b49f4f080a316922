"""Rules of coverage: the language, and decisions against a slow and obvious model."""

from __future__ import annotations

from hypothesis import example, given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SECOND
from good_tide.core.coverage import NONE, Coverage
from good_tide.core.rules import Rule, RuleError, literal_pattern, parse_rule, parse_rules
from tests.support.base import GoodTideTest

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
