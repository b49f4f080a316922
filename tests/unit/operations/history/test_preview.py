"""What the inspector says of a version: previews of every kind, and what differs."""

from __future__ import annotations

import io
import os
import random
import wave

from good_tide.core.entries import Kind
from good_tide.operations.history.browse import contents, entry_at
from good_tide.operations.history.preview import compare_versions, compare_with_disk, decode_text, preview
from tests.support.base import GoodTideTest


def sound(seconds: float) -> bytes:
    target = io.BytesIO()
    with wave.open(target, "wb") as file:
        file.setnchannels(2)
        file.setsampwidth(2)
        file.setframerate(8000)
        file.writeframes(bytes(int(8000 * seconds) * 4))
    return target.getvalue()


class PreviewTest(GoodTideTest):
    def test_every_kind_of_file_shows_what_it_can(self) -> None:
        noise = random.Random(2).randbytes(60_000)
        files: dict[str, tuple[bytes, str, str]] = {
            "letter.txt": (b"dear council\n", "text", "dear council"),
            "empty.txt": (b"", "text", ""),
            "utf16.txt": ("Grüße aus der Küche\n".encode("utf-16"), "text", "Grüße"),
            "bom.txt": (b"\xef\xbb\xbfafter the mark", "text", "after the mark"),
            "photo.jpg": (b"\xff\xd8\xff\xe0" + bytes(100), "picture", ""),
            "plan.svg": (b'<svg xmlns="http://www.w3.org/2000/svg"/>', "picture", ""),
            "not a plan.svg": (b"only text", "text", "only text"),
            "cue.wav": (sound(1.5), "summary", "Sound, 1.5 s, 8000 Hz, 16 bit, 2 channels"),
            "broken.wav": (b"RIFF\0\0\0\0WAVEx\0", "summary", "A sound file"),
            "letter.odt": (b"PK\x03\x04" + bytes(40), "summary", "A ZIP archive, or a document kept as one"),
            "programme.pdf": (b"%PDF-1.7\n\0\1", "summary", "A PDF document"),
            "noise.bin": (noise, "summary", "looks like noise"),
            "zeros.bin": (bytes(100), "summary", "100 B of data"),
        }
        for name, (content, _, _) in files.items():
            self.write(name, content)
        (self.work / "link").symlink_to("letter.txt")
        os.mkfifo(self.work / "pipe")
        (self.work / "folder").mkdir()
        store = self.new_store()
        taken = self.snap(store)
        for name, (content, form, words) in files.items():
            with self.subTest(name):
                found = preview(store, entry_at(store, taken, os.fsencode(self.work / name)))
                self.assertEqual(found.form, form)
                self.assertIn(words, found.text)
                if form == "picture":
                    self.assertEqual(found.picture, content)
        entries = {entry.name: entry for _, entry in contents(store, taken, os.fsencode(self.work), False)}
        for inner, words in (
            (b"link", "A link to 'letter.txt'"),
            (b"pipe", "Not in this snapshot"),
            (b"folder", "A folder"),
        ):
            self.assertIn(words, preview(store, entries[inner]).text)
        self.assertIs(entries[b"pipe"].kind, Kind.LEFT_OUT)

    def test_a_long_text_is_cut_and_says_so(self) -> None:
        self.write("long.txt", b"line\n" * 200_000)
        store = self.new_store()
        taken = self.snap(store)
        found = preview(store, entry_at(store, taken, os.fsencode(self.work / "long.txt")))
        self.assertEqual((found.form, found.cut, len(found.text)), ("text", True, 512 * 1024))

    def test_encodings_are_told_and_what_is_no_text_is_none(self) -> None:
        for text, encoding in (
            (
                "Grüße an alle Gäste der Premiere, schöne Grüße aus der Küche und viel Vergnügen\n" * 3,
                "latin-1",
            ),
            ("Bühne frei", "cp1252"),
            ("Répétition générale à 20 heures, côté cour", "cp1252"),
            ("Zażółć gęślą jaźń, próba o godzinie szóstej", "cp1250"),
            ("舞台稽古は六時から始まります。遅れないでください。", "shift_jis"),
            ("Привет из театра, добрый вечер всем гостям премьеры\n" * 4, "cp1251"),
        ):
            with self.subTest(encoding):
                self.assertEqual(decode_text(text.encode(encoding))[0], text)
        self.assertIsNone(decode_text(random.Random(4).randbytes(4000))[0])
        self.assertEqual(decode_text("ä".encode())[1], "UTF-8")

    def test_comparisons_say_in_words_what_cannot_be_shown(self) -> None:
        self.write("plan.txt", "one\ntwo\nthree\n")
        self.write("same.txt", "same")
        self.write("gone.txt", "gone")
        self.write("folder.txt", "file")
        self.write("noise.txt", "text before")
        store = self.new_store()
        first = self.snap(store, 0)
        self.write("plan.txt", "one\nzwei\nthree\nfour\n")
        self.write("noise.txt", random.Random(5).randbytes(3000))
        (self.work / "gone.txt").unlink()
        (self.work / "folder.txt").unlink()
        (self.work / "folder.txt").mkdir()
        second = self.snap(store, 1)

        def path(name: str) -> bytes:
            return os.fsencode(self.work / name)

        for name, words in (
            ("same.txt", "The same as what is on the disk now"),
            ("gone.txt", "not on the disk now"),
            ("folder.txt", "Something else is on the disk"),
        ):
            with self.subTest(name):
                compared = compare_with_disk(store, entry_at(store, first, path(name)), path(name))
                difference, said = compared.difference, compared.words
                self.assertIsNone(difference)
                self.assertIn(words, said)
        compared = compare_versions(
            store, entry_at(store, second, path("plan.txt")), entry_at(store, first, path("plan.txt"))
        )
        difference, said = compared.difference, compared.words
        assert difference is not None
        self.assertEqual(
            (difference.changed, difference.total, said), (2, 4, "Differs from the version before")
        )
        self.assertIn(("+", "zwei"), difference.lines)
        self.assertIn(("-", "two"), difference.lines)
        noise, text = entry_at(store, second, path("noise.txt")), entry_at(store, first, path("noise.txt"))
        self.assertIn("no text to compare", compare_versions(store, noise, text).words)
        self.assertIn("no text any more", compare_versions(store, text, noise).words)
        self.assertIn(
            "this was no file",
            compare_versions(store, text, entry_at(store, second, path("folder.txt"))).words,
        )
