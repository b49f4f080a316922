"""Words, numbers and dates in the language of the session; and that everything can be found by who
translates."""

from __future__ import annotations

import ast
import io
import re
import string
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from unittest import mock

from babel.messages.catalog import Catalog
from babel.messages.mofile import write_mo
from tools.words import found_texts

from good_tide.core import translation
from good_tide.core.clock import SECOND
from good_tide.core.jobfile import rhythm_part
from good_tide.core.ladder import READY, parse_rung
from good_tide.core.rhythm import EVERY_HOUR, Rhythm, parse_at
from good_tide.core.translation import LONG, tr
from good_tide.core.words import (
    count_words,
    duration_words,
    exact_words,
    number_words,
    size_words,
    time_words,
)
from tests.support.base import REPOSITORY, GoodTideTest

_NOON = 1_793_703_600 * SECOND
"""2026-11-03 at noon in Berlin."""


@contextmanager
def spoken(language: str, catalogs: Path | None = None) -> Iterator[None]:
    """In another language."""
    with (
        mock.patch.dict("os.environ", {"LANGUAGE": language}),
        mock.patch.object(translation, "CATALOGS", catalogs or translation.CATALOGS),
    ):
        translation._catalog.cache_clear()
        try:
            yield
        finally:
            translation._catalog.cache_clear()


class TranslationTest(GoodTideTest):
    def german(self) -> Path:
        """A catalog with some German in it."""
        made = Catalog(locale="de")
        made.add("today {clock}", "heute {clock}")
        made.add("{day}, {clock}", "{day}, {clock}")
        made.add(("{count} file", "{count} files"), ("{count} Datei", "{count} Dateien"))
        made.add("Last snapshot {last}.", "Letzter Schnappschuss {last}.")
        made.add("{hours} h {minutes} min", "{hours} Std. {minutes} Min.")
        written = io.BytesIO()
        write_mo(written, made)
        folder = self.folder / "catalogs" / "de" / "LC_MESSAGES"
        folder.mkdir(parents=True)
        (folder / "good-tide.mo").write_bytes(written.getvalue())
        return self.folder / "catalogs"

    def test_numbers_dates_and_plurals_go_by_the_language(self) -> None:
        with spoken("de_DE.UTF-8", self.german()):
            self.assertEqual(count_words(1, "file"), "1 Datei")
            self.assertEqual(count_words(12_345, "file"), "12.345 Dateien")
            self.assertEqual((size_words(1536), number_words(1234.5, 1)), ("1,5 KiB", "1.234,5"))
            self.assertEqual(time_words(_NOON, _NOON), "heute 12:00")
            self.assertEqual(time_words(_NOON, _NOON + 10 * 86400 * SECOND), "Di., 3. Nov., 12:00")
            self.assertIn("Dienstag, 3. November 2026", exact_words(_NOON))
            self.assertEqual(duration_words(3 * 3600), "3 Std. 0 Min.")
            self.assertEqual(tr("Last snapshot {last}.").format(last="x"), "Letzter Schnappschuss x.")
            self.assertEqual(tr("Nobody translated this"), "Nobody translated this")

    def test_without_a_catalog_everything_is_english(self) -> None:
        for language in ("fr_FR.UTF-8", "en_GB", "C", "fr:en"):
            with spoken(language):
                self.assertEqual((count_words(12_345, "file"), size_words(1536)), ("12,345 files", "1.5 KiB"))
                self.assertEqual(time_words(_NOON, _NOON + 10 * 86400 * SECOND), "Tue 3 Nov, 12:00")

    def test_what_is_kept_is_the_same_in_every_language(self) -> None:
        rhythm = Rhythm(
            rules=(EVERY_HOUR, *parse_at("mon,thu 09:00", "Europe/Berlin")), allowed=("mon-fri 08:00-20:00",)
        )
        plain = rhythm_part(rhythm)
        with spoken(LONG):
            self.assertEqual(rhythm_part(rhythm), plain)
            self.assertEqual(plain.rhythm("Europe/Berlin"), rhythm)
            for ladder in READY.values():
                self.assertEqual(tuple(parse_rung(rung.text()) for rung in ladder.rungs), ladder.rungs)

    def test_made_up_words_are_longer_and_keep_their_places(self) -> None:
        with spoken(LONG):
            shown = tr("{count} files in {place}")
            self.assertEqual((shown[0], shown[-1]), ("⟦", "⟧"))
            self.assertGreater(len(shown), len("{count} files in {place}") + 2)
            self.assertIn("{count}", shown)
            self.assertEqual(tr("· 12"), "· 12", "what has no letters is the same everywhere")

    def test_every_text_can_be_found_and_its_places_have_names(self) -> None:
        found = found_texts()
        self.assertGreater(len(found), 2000)
        for text in found:
            with self.subTest(text):
                names = [name for _, name, _, _ in string.Formatter().parse(text) if name is not None]
                self.assertTrue(all(re.fullmatch(r"[A-Za-z_]\w*", name) for name in names), names)
                self.assertEqual(len(names), len(set(names)))
            self.assertFalse(text.startswith((", ", "; ", ". ")), f"a piece of a sentence: {text}")
        for known in ("Set up…", "{count} file", "{count} files", "today {clock}", "Take snapshot"):
            self.assertIn(known, found)

    def test_every_place_in_a_text_is_filled_by_its_name(self) -> None:
        """Also on paths that no other test goes: an error's words must not be an error."""
        looked = 0
        for file in sorted((REPOSITORY / "src" / "good_tide").rglob("*.py")):
            tree = ast.parse(file.read_text(encoding="utf-8"))
            above = {child: node for node in ast.walk(tree) for child in ast.iter_child_nodes(node)}
            for node in ast.walk(tree):
                if not (
                    isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "tr"
                ):
                    continue
                text = node.args[0]
                if not (isinstance(text, ast.Constant) and isinstance(text.value, str)):
                    continue
                wanted = {name for _, name, _, _ in string.Formatter().parse(text.value) if name is not None}
                filled = above.get(above[node]) if isinstance(above[node], ast.Attribute) else None
                given = {word.arg for word in filled.keywords} if isinstance(filled, ast.Call) else set()
                self.assertEqual(wanted, given, f"{file.name}, line {node.lineno}: {text.value}")
                looked += 1
        self.assertGreater(looked, 2000)
