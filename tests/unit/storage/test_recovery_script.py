"""What belongs to people is not touched, and nobody is led astray: half-made stores, links of others, powers,
sockets, deep folders."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

from good_tide.core.progress import Silent
from good_tide.operations.stores.carrying import carry
from tests.support.base import (
    CHEAP,
    PASSPHRASE,
    REPOSITORY,
    GoodTideTest,
    create_store,
    open_store,
    program,
    tree,
)


class ScriptTest(GoodTideTest):
    """The recovery script on the disk is compared with the true one."""

    def test_a_changed_script_is_damage_and_an_earlier_one_a_note(self) -> None:
        store = self.new_store()
        root, words = Path(store.place.title), self.folder / "words"
        words.write_text(PASSPHRASE)
        self.assertEqual(program("verify", "--store", root, passphrase=words).returncode, 0)
        script = root / "recover.py"
        true = script.read_bytes()
        script.write_bytes(true.replace(b"import sys", b"import sys, harm", 1))
        ended = program("verify", "--store", root, passphrase=words)
        self.assertEqual(ended.returncode, 4)
        self.assertIn("Do not run it", ended.stdout)
        script.write_bytes((REPOSITORY / "tests/frozen/v1-open/recover.py").read_bytes())
        ended = program("verify", "--store", root, passphrase=words)
        self.assertEqual(ended.returncode, 0)
        self.assertIn("earlier version", ended.stdout)
        self.assertEqual(program("store", "recovery-script", root).returncode, 0)
        self.assertEqual(script.read_bytes(), true)
        elsewhere = self.folder / "stick.py"
        self.assertEqual(program("store", "recovery-script", elsewhere).returncode, 0)
        self.assertEqual(elsewhere.read_bytes(), true)
        self.assertEqual(program("store", "recovery-script", elsewhere).returncode, 2)


class WithoutTheProgramTest(GoodTideTest):
    def test_the_recovery_script_reads_what_was_carried_and_what_was_taken_under_rules(self) -> None:
        self.write("sub/plan.txt", "plan " * 100)
        self.write("large.bin", bytes(range(256)) * 1200)
        source = self.new_store("one")
        taken = self.snap(source)
        secret = self.folder / "secret"
        secret.write_text(PASSPHRASE)
        for twin in (True, False):
            with self.subTest(twin=twin):
                root = self.folder / f"two {twin}"
                create_store(root, PASSPHRASE, cost=CHEAP, twin=source.keys if twin else None)
                carry(source, open_store(root, PASSPHRASE), None, self.state, Silent())
                out = self.folder / f"out {twin}"
                done = subprocess.run(
                    [sys.executable, str(root / "recover.py"), "extract", taken.id, str(out)],
                    input=f"{PASSPHRASE}\n",
                    capture_output=True,
                    text=True,
                    check=False,
                )
                self.assertEqual(done.returncode, 0, done.stderr)
                found = next(Path(out).rglob("work"))
                self.assertEqual(
                    {name: facts[3] for name, facts in tree(found).items() if facts[0] == "file"},
                    {name: facts[3] for name, facts in tree(self.work).items() if facts[0] == "file"},
                )
