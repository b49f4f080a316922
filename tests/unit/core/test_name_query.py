"""What is typed to find a name."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from good_tide.core.name_query import NameQuery, Word, folded_name, nearness, parse_query


class NameQueryTest(unittest.TestCase):
    def test_capitals_and_accents_do_not_matter(self) -> None:
        for one, other in (("Übersicht", "ubersicht"), ("STRASSE", "straße"), ("Ångström", "angstrom")):
            with self.subTest(one):
                self.assertEqual(folded_name(one.encode()), folded_name(other.encode()))
        self.assertEqual(folded_name("e\u0301te\u0301".encode()), folded_name("été".encode()))

    @given(st.binary(max_size=30).filter(lambda name: b"/" not in name))
    def test_any_name_can_be_folded_and_stays_so(self, name: bytes) -> None:
        once = folded_name(name)
        self.assertEqual(folded_name(once), once)
        self.assertEqual(name.count(b"\0"), once.count(b"\0"))

    def test_words_phrases_paths_and_wildcards(self) -> None:
        self.assertEqual(
            parse_query('  Plan "winter play" Office/Bud *.CSV office/ * '),
            (
                Word(b"plan"),
                Word(b"winter play"),
                Word(b"office/bud", True),
                Word(b"*.csv", False, True),
                Word(b"office"),
            ),
        )
        self.assertEqual(parse_query('"*"'), ())

    def test_a_wildcard_word_is_the_whole_name(self) -> None:
        (word,) = parse_query("plan*.csv")
        self.assertTrue(word.in_name(b"plan of the tour.csv"))
        self.assertFalse(word.in_name(b"the plan.csv"))
        self.assertEqual(word.anchor, b"plan")
        (word,) = parse_query("budgets/*.csv")
        self.assertTrue(word.in_whole(b"/home/budgets/a.csv"))
        self.assertFalse(word.in_whole(b"/home/budgets/old/a.csv"))

    def test_kinds_and_ranks(self) -> None:
        query = NameQuery(parse_query("plan"))
        names = [b"plan.txt", b"planning.txt", b"stage plan.txt", b"explanation.txt"]
        self.assertEqual([query.rank(name) for name in names], [0, 1, 2, 3])
        pictures = NameQuery(parse_query("plan"), kind="pictures")
        self.assertTrue(pictures.of_kind(b"plan.png", False))
        self.assertFalse(pictures.of_kind(b"plan.txt", False) or pictures.of_kind(b"plan.png", True))
        self.assertTrue(NameQuery((), kind="folders").of_kind(b"plan", True))

    def test_what_is_near(self) -> None:
        self.assertGreater(nearness(b"buget", b"budget"), 0.6)
        self.assertEqual(nearness(b"plan", b"plan"), 1)
        self.assertLess(nearness(b"plan", b"xyz"), 0.1)
