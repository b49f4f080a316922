"""In which versions a phrase stands."""

from __future__ import annotations

import io
import json
import os
import zipfile
from pathlib import Path

from good_tide.core.progress import Silent
from good_tide.operations.history.containing import containing, text_of
from good_tide.operations.history.path_history import path_spans
from good_tide.operations.stores.opening import synced_catalog
from tests.support.base import MACHINE, GoodTideTest, program


def document(part: str, xml: str, **more: str) -> bytes:
    """An office document with a part."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(part, xml)
        for name, content in more.items():
            archive.writestr(name, content)
    return out.getvalue()


class TextOfTest(GoodTideTest):
    def test_office_documents(self) -> None:
        odt = "<text:p>The <text:span>fee</text:span></text:p><text:p>is 120 &amp; more</text:p>"
        self.assertEqual(text_of(document("content.xml", odt)), "The fee\nis 120 & more\n")
        docx = "<w:p><w:r><w:t>Curtain</w:t></w:r><w:tab/><w:r><w:t>up</w:t></w:r></w:p>"
        self.assertEqual(text_of(document("word/document.xml", docx)), "Curtain\nup\n")
        xlsx = "<sst><si><t>Fee</t></si><si><t>120</t></si></sst>"
        self.assertEqual(text_of(document("xl/sharedStrings.xml", xlsx)), "Fee\n120\n")
        self.assertEqual(text_of("schön".encode("utf-16")), "schön")

    def test_hostile_ones_cost_nothing(self) -> None:
        entities = '<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]><text:p>&b;&b;</text:p>'
        found = text_of(document("content.xml", entities))
        assert found is not None
        self.assertIn("&b;&b;", found, "entities of its own are not followed")
        bomb = document("content.xml", "a" * (200 << 20))
        self.assertLess(len(bomb), 1 << 20)
        found = text_of(bomb)
        assert found is not None
        self.assertLessEqual(len(found), 32 << 20)
        whole = document("content.xml", "<text:p>x</text:p>")
        for data in (whole[:40], whole[:-10], b"PK\x03\x04", whole[:30] + b"\xff" * 40, b"", os.urandom(500)):
            self.assertIn(type(text_of(data)), (str, type(None)))
        self.assertIsNone(text_of(document("other.xml", "x")))
        long = document("content.xml", "".join(f"<text:p>{number}</text:p>" for number in range(9000)))
        for at in range(60, len(long) - 200, 97):
            spoilt = long[:at] + bytes((long[at] ^ 0x5A,)) + long[at + 1 :]
            self.assertIn(type(text_of(spoilt)), (str, type(None)), at)


class ContainingTest(GoodTideTest):
    def test_since_when_and_until_when(self) -> None:
        store = self.new_store(passphrase=None)
        texts = ("the fee", "The  Fee\nis 120 €", "the FÉE  is 120 € a night", "\0\0\0", "nothing")
        for hour, text in enumerate(texts):
            self.write("letter.txt", text)
            self.snap(store, hour)
        (self.work / "letter.txt").unlink()
        self.snap(store, 5)
        self.write("letter.txt", texts[1])
        self.snap(store, 6)
        catalog, _ = synced_catalog(store, self.cache)
        self.addCleanup(catalog.close)
        path = os.fsencode(self.work / "letter.txt")
        spans = path_spans(catalog, MACHINE.id, path)
        found = containing(store, catalog.tide(MACHINE.id), spans, path, " fee is  120", Silent())
        self.assertEqual(found, [False, True, True, None, False, True])

    def test_by_command(self) -> None:
        store = self.folder / "open"
        program("store", "create", store, "--unencrypted")
        path: Path = self.work / "letter.txt"
        for number, at in enumerate(("2026-01-05T10:00", "2026-01-05T11:00")):
            self.write("letter.txt", f"act {number}")
            program("snapshot", "--store", store, "--folder", self.work, "--at", at)
        words = ("versions", "--store", store, path, "--containing", "ACT 1")
        found = json.loads(program(*words, "--json").stdout)["versions"]
        self.assertEqual([one["contains"] for one in found], [False, True])
        self.assertIn("Says it", program(*words).stdout)
        plain = json.loads(program("versions", "--store", store, path, "--json").stdout)["versions"]
        self.assertNotIn("contains", plain[0])
