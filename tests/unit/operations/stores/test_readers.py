"""Disks as places for stores: recognised, checked, found again; job files; who may read."""

from __future__ import annotations

import os
from unittest import mock

import keyring
import keyring.errors

from good_tide.core.clock import SECOND, SetClock
from good_tide.core.errors import (
    NameTakenError,
    PersonError,
    PlaceError,
    WrongPassphraseError,
)
from good_tide.core.identifiers import Nanoseconds, StoreId
from good_tide.core.passphrases import gives_away, judge, proposal_bits, propose
from good_tide.operations.records.passphrase_attempts import AttemptCounter
from good_tide.storage.folder_place import LocalPlace
from good_tide.storage.keyslots import add_recovery, change_passphrase, list_slots, revoke
from good_tide.system.keyrings import DesktopKeyRing
from tests.support.base import CHEAP, PASSPHRASE, T0, GoodTideTest, create_store, open_store

STORE = StoreId("5a" * 16)


class ReadersTest(GoodTideTest):
    def test_a_changed_passphrase_opens_and_the_old_one_does_not(self) -> None:
        store = self.new_store()
        packs = sorted(store.place.names("packs"))
        change_passphrase(store.place, store.keys, PASSPHRASE, "another one", "hint", CHEAP)
        with self.assertRaises(WrongPassphraseError):
            open_store(self.folder / "store", PASSPHRASE)
        self.assertEqual(open_store(self.folder / "store", "another one").keys.secret, store.keys.secret)
        self.assertEqual([slot.kind for slot in list_slots(store.place)], ["passphrase", "recovery"])
        self.assertEqual(sorted(store.place.names("packs")), packs)
        with self.assertRaises(WrongPassphraseError):
            change_passphrase(store.place, store.keys, "guess", "x y z", cost=CHEAP)

    def test_a_lost_passphrase_is_replaced_with_the_recovery_key_and_keys_are_revoked(self) -> None:
        new = create_store(self.folder / "s", PASSPHRASE, cost=CHEAP)
        assert new.recovery_key is not None
        place = LocalPlace(self.folder / "s")
        change_passphrase(place, new.keys, new.recovery_key, "found again", cost=CHEAP)
        fresh = add_recovery(place, new.keys, CHEAP)
        self.assertEqual(len(list_slots(place)), 3)
        open_store(self.folder / "s", fresh)
        passphrase = next(one.number for one in list_slots(place) if one.kind == "passphrase")
        with self.assertRaisesRegex(PersonError, "only passphrase"):
            revoke(place, passphrase)
        while len(list_slots(place)) > 1:
            revoke(place, next(one.number for one in list_slots(place) if one.kind == "recovery"))
        with self.assertRaisesRegex(PersonError, "only way"):
            revoke(place, 1)
        with self.assertRaises(PersonError):
            revoke(place, 9)
        with self.assertRaises(WrongPassphraseError):
            open_store(self.folder / "s", fresh)
        open_store(self.folder / "s", "found again")

    def test_unusable_passphrases_and_hints_are_refused(self) -> None:
        for passphrase, hint in (("", ""), ("x" * 10_000, ""), ("Low Tide", "it is LOWTIDE!")):
            with self.subTest(passphrase[:9]), self.assertRaises(PersonError):
                create_store(self.folder / "s", passphrase, hint, CHEAP)
        self.assertFalse(gives_away("by the sea", "harbour lantern"))
        self.assertLess(judge("password1").score, 2)
        self.assertIn("words", judge("password1").advice)
        self.assertEqual(judge(propose()).score, 4)
        self.assertGreater(proposal_bits(), 50)
        judge("harbour " * 1250)

    def test_a_store_made_by_two_at_the_same_moment_is_made_by_one(self) -> None:
        root = self.folder / "s"
        real = LocalPlace.create

        def other_first(place: LocalPlace, name: str, owner: str) -> object:
            if name == "store.json" and not (root / "store.json").exists():
                with mock.patch.object(LocalPlace, "create", real):
                    (root / "README.txt").rename(root / "README.old")
                    (self.folder / "theirs").mkdir()
                    other = create_store(self.folder / "theirs" / "s", PASSPHRASE, cost=CHEAP)
                    os.link(self.folder / "theirs" / "s" / "store.json", root / "store.json")
                    self.assertNotEqual(other.header.store, "")
            return real(place, name, owner)

        with mock.patch.object(LocalPlace, "create", other_first), self.assertRaises(NameTakenError):
            create_store(root, PASSPHRASE, cost=CHEAP)

    def test_wrong_tries_slow_down_across_restarts(self) -> None:
        clock = SetClock(Nanoseconds(T0))
        waits = []
        for _ in range(6):
            counter = AttemptCounter(self.state, STORE, clock)
            waits.append(counter.seconds_to_wait())
            counter.wrong()
        self.assertEqual(waits, [0, 0, 0, 2, 4, 8])
        with self.assertRaises(PlaceError):
            AttemptCounter(self.state, STORE, clock).check()
        clock.set(Nanoseconds(T0 + 17 * SECOND))
        AttemptCounter(self.state, STORE, clock).check()
        clock.set(Nanoseconds(T0 - 3600 * SECOND))
        self.assertGreater(
            AttemptCounter(self.state, STORE, clock).seconds_to_wait(), 0, "a clock set back does not help"
        )
        AttemptCounter(self.state, STORE, clock).right()
        AttemptCounter(self.state, STORE, clock).check()

    def test_every_state_of_the_key_ring_has_its_sentence(self) -> None:
        ring = DesktopKeyRing()
        for error, words in (
            (keyring.errors.NoKeyringError(), "no key ring"),
            (keyring.errors.KeyringLocked(), "locked"),
            (keyring.errors.InitError(), "No program"),
            (keyring.errors.PasswordSetError("full"), "full"),
            (OSError("bus"), "did not answer"),
        ):
            with (
                self.subTest(words),
                mock.patch.object(keyring, "set_password", side_effect=error),
                self.assertRaises(PlaceError) as caught,
            ):
                ring.remember("store", "words")
            self.assertIn(words, str(caught.exception))
