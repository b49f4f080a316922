"""The store: chunking, keys, and its invariants, each with something that tries to break it."""

from __future__ import annotations

import secrets

import msgspec

from good_tide.core.errors import (
    DamageError,
    WrongPassphraseError,
)
from good_tide.crypto.slots import Cost, new_recovery_key, parse_recovery_key, unwrap, wrap
from tests.support.base import CHEAP, PASSPHRASE, GoodTideTest, create_store, open_store


class KeyTest(GoodTideTest):
    def test_recovery_keys_are_read_however_they_are_typed(self) -> None:
        key = new_recovery_key()
        digits = parse_recovery_key(key)
        self.assertIsNotNone(digits)
        for typed in (
            key.lower(),
            key.replace("-", " "),
            f"  {key}\n",
            key.replace("0", "O").replace("1", "l"),
        ):
            self.assertEqual(parse_recovery_key(typed), digits)
        wrong = ("1" if key[0] != "1" else "2") + key[1:]
        for typed in (wrong, key[:-1], "", "harbour lantern"):
            self.assertIsNone(parse_recovery_key(typed))

    def test_slots_open_with_their_words_and_their_store_only(self) -> None:
        secret = secrets.token_bytes(64)
        slot = wrap("passphrase", "café", secret, b"binding", CHEAP)
        self.assertEqual(unwrap([slot], "cafe\u0301", b"binding"), secret)
        for words, binding in (("cafe", b"binding"), ("café", b"another")):
            with self.assertRaises(WrongPassphraseError):
                unwrap([slot], words, binding)

    def test_a_slot_that_asks_for_too_much_memory_is_refused_before_it_is_taken(self) -> None:
        slot = wrap("passphrase", "x", bytes(64), b"", CHEAP)
        greedy = msgspec.structs.replace(slot, cost=Cost(memory_kib=1 << 30, passes=1, lanes=1))
        with self.assertRaises(DamageError):
            unwrap([greedy], "x", b"")

    def test_recovery_key_opens_the_store(self) -> None:
        new = create_store(self.folder / "s", PASSPHRASE, "hint", CHEAP)
        assert new.recovery_key is not None
        self.assertEqual(open_store(self.folder / "s", new.recovery_key).keys.secret, new.keys.secret)
        with self.assertRaises(WrongPassphraseError):
            open_store(self.folder / "s", "tide and tine")
        with self.assertRaises(WrongPassphraseError):
            open_store(self.folder / "s", None)
