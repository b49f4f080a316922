"""Rules of coverage: the language, and decisions against a slow and obvious model."""

from __future__ import annotations

import posixpath

import pathspec
from hypothesis import given, settings
from hypothesis import strategies as st

from good_tide.core.clock import SECOND
from good_tide.core.coverage import NONE, Coverage, FolderState
from good_tide.core.kinds import KINDS, ending
from good_tide.core.rules import Rule
from tests.support.base import GoodTideTest

HOME, ROOT = "/home/ada", "/home/ada/Office"


NOW = 1_790_000_000 * SECOND


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
