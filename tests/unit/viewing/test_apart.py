"""Files are read in a process of its own: what hangs, eats memory or falls costs that file only."""

from __future__ import annotations

import os
import signal
import time
from unittest import mock

import msgspec

from good_tide.core.comparing import Compared, Counted
from good_tide.core.previews import FactsPreview, TextPreview
from good_tide.viewing import answering, helper
from good_tide.viewing.apart import Viewer
from good_tide.viewing.content import Content
from good_tide.viewing.requests import Answer, Compare, Count, Failed, Found, Request, Says, Show, Shown
from tests.support import documents
from tests.support.base import GoodTideTest

TEXT = Content("letter.txt", 12, b"The fee\nis 12")


class ApartTest(GoodTideTest):
    def setUp(self) -> None:
        super().setUp()
        self.viewer = Viewer()
        self.addCleanup(self.viewer.close)

    def test_answers(self) -> None:
        found = self.viewer.ask(Show(TEXT))
        self.assertEqual(found, Shown(TextPreview("The fee\nis 12", cut=False)))
        other = Content("letter.txt", 13, b"The fee\nis 120")
        compared = self.viewer.ask(Compare(TEXT, other))
        assert isinstance(compared, Compared) and compared.text is not None
        self.assertEqual((compared.text.added, compared.text.removed), (1, 1))
        self.assertEqual(self.viewer.ask(Count(TEXT, other)), Counted(1, 1))
        self.assertEqual(self.viewer.ask(Says(TEXT, "fee is 12")), Found(True))
        self.assertEqual(self.viewer.ask(Says(Content("a.bin", 4, bytes(4)), "x")), Found(None))
        small = self.viewer.ask(Show(Content("list.txt", 9000, b"line\n" * 1800), small=True))
        assert isinstance(small, Shown) and isinstance(small.preview, TextPreview)
        self.assertEqual((small.preview.text.count("\n"), small.preview.cut), (11, True))

    def test_a_killed_process_is_begun_anew(self) -> None:
        self.viewer.ask(Show(TEXT))
        process = self.viewer._all[0]._running
        assert process is not None
        os.kill(process.pid, signal.SIGKILL)
        process.wait()
        self.assertIsInstance(self.viewer.ask(Show(TEXT)), Shown)


class LimitsTest(GoodTideTest):
    """The child itself, with readers that do what hostile files would."""

    def served(self, act: object) -> Answer:
        request: Request = Show(TEXT)
        with mock.patch.object(helper, "answer", act):
            found: Answer = msgspec.msgpack.decode(
                helper._serve(msgspec.msgpack.encode(request)), type=Answer
            )
        return found

    def test_what_hangs_what_eats_memory_what_falls(self) -> None:
        def hangs(request: Request) -> Answer:
            time.sleep(60)
            return answering.answer(request)

        def works(request: Request) -> Answer:
            while True:
                pass

        def eats(request: Request) -> Answer:
            return Failed(str(len(bytearray(8 << 30))))

        def falls(request: Request) -> Answer:
            os.kill(os.getpid(), signal.SIGSEGV)
            return answering.answer(request)

        def writes(request: Request) -> Answer:
            with open("/tmp/hostile", "wb") as file:
                file.write(b"x" * 10)
            return answering.answer(request)

        with mock.patch.object(helper, "WALL_SECONDS", 0.5), mock.patch.object(helper, "_CPU_SECONDS", 1):
            for act, words in (
                (hangs, "too long"),
                (works, "too long"),
                (eats, "too much memory"),
                (falls, "could not be read"),
                (writes, "could not be read"),
            ):
                with self.subTest(act.__name__):
                    found = self.served(act)
                    assert isinstance(found, Failed), found
                    self.assertIn(words, found.why)
        self.assertEqual(self.served(answering.answer), Shown(TextPreview("The fee\nis 12", cut=False)))

    def test_an_endless_answer_is_cut_off(self) -> None:
        with mock.patch.object(helper, "_LONGEST_ANSWER", 5):
            self.assertIsInstance(self.served(answering.answer), Failed)

    def test_damage_is_a_fact_of_the_file(self) -> None:
        found = answering.answer(Show(Content("p.png", 40, documents.picture()[:40])))
        assert isinstance(found, Shown)
        self.assertIsInstance(found.preview, FactsPreview)
