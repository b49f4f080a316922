"""What each kind of file is shown as, and what becomes of broken and hostile ones."""

from __future__ import annotations

import io
import random
import struct
import zlib

import zstandard
from PIL import Image

from good_tide.core.previews import (
    FactsPreview,
    ListingPreview,
    PagesPreview,
    PicturePreview,
    Preview,
    SoundPreview,
    TablePreview,
    TextPreview,
    lines_of,
)
from good_tide.viewing.content import Content
from good_tide.viewing.readers import preview
from good_tide.viewing.texts import decode_text
from tests.support import documents
from tests.support.base import GoodTideTest

ROWS: list[list[str | float]] = [["Item", "Price"], ["Gaffer tape", 12.5], ["Screws", 3]]


def shown(name: str, data: bytes, size: int | None = None) -> Preview:
    return preview(Content(name, len(data) if size is None else size, data))


class ReadersTest(GoodTideTest):
    def test_text_of_every_kind(self) -> None:
        said = ["The fee is 120.", "Curtain up"]
        for name, data, lines in (
            ("letter.txt", b"The fee is 120.\nCurtain up", said),
            ("empty.txt", b"", []),
            ("utf16.txt", "Grüße aus der Küche\n".encode("utf-16"), ["Grüße aus der Küche"]),
            ("bom.txt", b"\xef\xbb\xbfafter the mark", ["after the mark"]),
            ("not a plan.svg", b"only text", ["only text"]),
            ("letter.odt", documents.open_text(*said), said),
            ("letter.docx", documents.word_text(*said), said),
            (
                "talk.odp",
                documents.zipped(content_xml="<text:p>One</text:p><text:p>two &amp; three</text:p>"),
                ["One", "two & three"],
            ),
            ("talk.pptx", documents.zipped(ppt__slides__slide1_xml="<a:p><a:t>Slide</a:t></a:p>"), ["Slide"]),
        ):
            with self.subTest(name):
                found = shown(name, data)
                assert isinstance(found, TextPreview), found
                self.assertEqual(lines_of(found), lines)

    def test_tables_of_every_kind(self) -> None:
        rows = (("Item", "Price"), ("Gaffer tape", "12.5"), ("Screws", "3"))
        semicolons = "\r\n".join(";".join(row) for row in rows).encode()
        for name, data in (
            ("list.csv", b'Item,Price\n"Gaffer tape",12.5\nScrews,3\n'),
            ("list2.csv", semicolons),
            ("list.tsv", semicolons.replace(b";", b"\t")),
            ("list.xlsx", documents.sheet(ROWS)),
            ("list.ods", documents.open_sheet(ROWS)),
        ):
            with self.subTest(name):
                found = shown(name, data)
                assert isinstance(found, TablePreview), found
                self.assertEqual((found.sheets[0].rows, found.sheets[0].numbers), (rows, {1}))

    def test_pictures_sound_pages_and_lists(self) -> None:
        for name in ("PNG", "JPEG", "GIF", "BMP", "WEBP", "TIFF"):
            found = shown(f"poster.{name.lower()}", documents.picture(3000, 20, name))
            assert isinstance(found, PicturePreview), found
            self.assertEqual((found.pixels.width, found.pixels.height), (1400, 9))
            self.assertIn("3,000 × 20 pixels", found.facts)
            self.assertEqual(len(zstandard.decompress(found.pixels.packed)), 1400 * 9 * 4)
        drawing = shown("plan.svg", b'<svg xmlns="http://www.w3.org/2000/svg" width="20" height="10"/>')
        assert isinstance(drawing, PicturePreview)
        for width in (1, 2, 3, 4):
            found = shown("cue.wav", documents.sound(1.5, width))
            assert isinstance(found, SoundPreview), found
            self.assertAlmostEqual(found.seconds, 1.5)
            self.assertEqual(found.facts, f"8,000 Hz, {8 * width} bit, 2 channels")
            self.assertTrue(all(abs(one) < 0.01 for one in (*found.low, *found.high)))
        found = shown("programme.pdf", documents.pages(3))
        assert isinstance(found, PagesPreview), found
        self.assertEqual((found.count, len(found.pages)), (3, 3))
        self.assertIn("Page number 2", found.text)
        for name, data in (
            ("all.zip", documents.zipped(a_txt="12345")),
            ("all.tar", documents.tarred("", {"a.txt": b"12345"})),
            ("all.tgz", documents.tarred("gz", {"a.txt": b"12345"})),
            ("all.tar.xz", documents.tarred("xz", {"a.txt": b"12345"})),
            ("all.tar.zst", zstandard.compress(documents.tarred("", {"a.txt": b"12345"}))),
        ):
            with self.subTest(name):
                found = shown(name, data)
                assert isinstance(found, ListingPreview), found
                self.assertEqual([(one.path, one.size) for one in found.items], [("a.txt", 5)])

    def test_for_all_else_facts_and_the_first_bytes(self) -> None:
        for name, data, words in (
            ("noise.bin", random.Random(2).randbytes(60_000), "looks like noise"),
            ("zeros.bin", bytes(100), "nothing but zeros"),
            ("song.mp3", b"ID3\x04" + bytes(90), "Sound (MP3)"),
            ("base.db", b"SQLite format 3\0" + bytes(90), "A database"),
        ):
            with self.subTest(name):
                found = shown(name, data)
                assert isinstance(found, FactsPreview), found
                self.assertIn(words, found.words)
                self.assertEqual((found.first, found.trouble), (data[:256], ""))

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
        cut = ("ä" * 300_000).encode()[: 512 * 1024 - 1]
        self.assertEqual(decode_text(cut + b"\xc3")[1], "UTF-8", "cut within a character")

    def test_broken_ones_say_so(self) -> None:
        whole = {
            "poster.png": documents.picture(),
            "poster.jpg": documents.picture(kind="JPEG"),
            "cue.wav": documents.sound(0.1),
            "programme.pdf": documents.pages(),
            "letter.docx": documents.word_text("words"),
            "letter.odt": documents.open_text("words"),
            "list.xlsx": documents.sheet(ROWS),
            "list.ods": documents.open_sheet(ROWS),
            "all.zip": documents.zipped(a_txt="x" * 5000),
            "all.tgz": documents.tarred("gz", {"a": b"x" * 5000}),
            "plan.svg": b'<svg xmlns="http://www.w3.org/2000/svg" width="20" height="10"><rect/></svg>',
        }
        chance = random.Random(7)
        for name, data in whole.items():
            for number in range(12):
                spoilt = bytearray(data[: chance.randrange(12, len(data))] if number % 2 else data)
                for _ in range(number):
                    spoilt[chance.randrange(8, len(spoilt))] ^= chance.randrange(1, 256)
                with self.subTest(name, number=number):
                    found = shown(name, bytes(spoilt))
                    if isinstance(found, FactsPreview):
                        self.assertTrue(found.trouble or "looks like" in found.words or "data" in found.words)
            cut = shown(name, data[: len(data) // 2], 10**9)
            self.assertNotEqual(type(cut).__name__, "PicturePreview", f"{name}: half of it is no picture")

    def test_hostile_ones_are_refused_in_words(self) -> None:
        entities = (
            '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;">]><x>&b;</x>'
        )
        outside = '<?xml version="1.0"?><!DOCTYPE x [<!ENTITY a SYSTEM "file:///etc/passwd">]><x>&a;</x>'
        many = {f"p{number}_xml": "<x/>" for number in range(4100)}
        bomb = "a" * (120 << 20)
        for name, data, words in (
            ("entities.odt", documents.zipped(content_xml=entities), "entities of its own"),
            ("entities.docx", documents.zipped(word__document_xml=outside), "entities of its own"),
            ("bomb.ods", documents.zipped(content_xml=bomb), "far more than a document has"),
            ("bomb.xlsx", documents.zipped(xl__sharedStrings_xml=bomb), "far more than a document has"),
            ("parts.docx", documents.zipped(**many), "more parts"),
            ("locked.pdf", documents.pages()[:40], "damaged"),
        ):
            with self.subTest(name):
                found = shown(name, data)
                assert isinstance(found, FactsPreview), found
                self.assertIn(words, found.trouble)

    def test_a_picture_that_claims_to_be_huge_is_not_unpacked(self) -> None:
        head = struct.pack(">IIBBBBB", 60_000, 60_000, 8, 2, 0, 0, 0)

        def chunk(kind: bytes, data: bytes) -> bytes:
            return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

        png = (
            b"\x89PNG\r\n\x1a\n"
            + chunk(b"IHDR", head)
            + chunk(b"IDAT", zlib.compress(bytes(1000)))
            + chunk(b"IEND", b"")
        )
        found = shown("huge.png", png)
        assert isinstance(found, FactsPreview)
        self.assertTrue(found.trouble)

    def test_no_more_is_sent_than_a_window_takes(self) -> None:
        noise = random.Random(1).randbytes(1800 * 1800 * 3)
        target = io.BytesIO()
        Image.frombytes("RGB", (1800, 1800), noise).save(target, "PNG", compress_level=1)
        found = shown("noise.png", target.getvalue())
        assert isinstance(found, PicturePreview)
        self.assertLessEqual(len(found.pixels.packed), 2 << 20)
        cells = [["x" * 300 for _ in range(40)] for _ in range(400)]
        table = shown("wide.xlsx", documents.sheet(cells))
        assert isinstance(table, TablePreview)
        self.assertTrue(table.sheets[0].cut)
        self.assertLess(sum(len(cell) for row in table.sheets[0].rows for cell in row), 2 << 20)
        text = shown("long.docx", documents.word_text(*["word " * 1000] * 400))
        assert isinstance(text, TextPreview)
        self.assertEqual((text.cut, len(text.text)), (True, 1 << 20))
        listed = shown("names.zip", documents.zipped(**{"n" * 3000: "x"}))
        assert isinstance(listed, ListingPreview)
        self.assertEqual(len(listed.items[0].path), 400)

    def test_a_drawing_shows_nothing_from_outside(self) -> None:
        inside = self.write("inside.png", documents.picture(100, 100))
        svg = (
            '<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" width="100"'
            f' height="100"><image xlink:href="{inside}" width="100" height="100"/>'
            f'<image href="file://{inside}" width="100" height="100"/></svg>'
        )
        found = shown("plan.svg", svg.encode())
        assert isinstance(found, PicturePreview)
        plain = zstandard.decompress(found.pixels.packed)
        self.assertEqual(set(plain), {255}, "nothing but white")

    def test_what_turned_upright_by_its_own_facts_is_shown_upright(self) -> None:
        image = Image.new("RGB", (40, 20))
        facts = Image.Exif()
        facts[0x0112] = 6  # EXIF 2.32, orientation: turned by a quarter
        target = io.BytesIO()
        image.save(target, "JPEG", exif=facts)
        found = shown("photo.jpg", target.getvalue())
        assert isinstance(found, PicturePreview)
        self.assertEqual((found.pixels.width, found.pixels.height), (20, 40))
