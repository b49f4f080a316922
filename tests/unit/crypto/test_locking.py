"""No key and nonce ever seal two different texts, whatever fails and however often: every seal is watched."""

from __future__ import annotations

import base64
import os
import resource
import subprocess
from pathlib import Path
from typing import Any
from unittest import mock

from good_tide.crypto.locking import keep_in_memory
from tests.support.base import PASSPHRASE, GoodTideTest


class SecretsTest(GoodTideTest):
    """Where keys may not get to."""

    def test_keys_are_in_no_argument_and_no_environment_of_a_helper(self) -> None:
        for number in range(3200):
            self.write(f"many/{number}.txt", str(number))
        store, seen = self.new_store(), []
        real = subprocess.Popen.__init__

        def started(self: Any, command: Any, *words: Any, **named: Any) -> None:
            seen.append((command, named.get("env")))
            real(self, command, *words, **named)

        with (
            mock.patch.object(subprocess.Popen, "__init__", started),
            mock.patch("os.cpu_count", return_value=2),
        ):
            self.snap(store)
        self.assertTrue(seen, "a helper was started")
        told = repr(seen) + repr(dict(os.environ))
        for secret in (store.keys.secret, store.keys.identity, store.keys.digest_key, PASSPHRASE.encode()):
            for form in (secret.hex(), base64.b64encode(secret).decode(), repr(secret)[2:-1]):
                self.assertNotIn(form, told)

    def test_keys_are_kept_out_of_swap_where_that_is_allowed(self) -> None:
        soft, _ = resource.getrlimit(resource.RLIMIT_MEMLOCK)
        granted = keep_in_memory(os.urandom(32))
        self.assertEqual(
            granted, soft == resource.RLIM_INFINITY or soft >= 2 * resource.getpagesize() or os.geteuid() == 0
        )
        if granted:
            self.assertNotRegex(Path("/proc/self/status").read_text(), r"VmLck:\s+0 kB")
