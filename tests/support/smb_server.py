"""Samba's server on loopback, for a folder of a test."""

from __future__ import annotations

import unittest
from pathlib import Path

from good_tide.core.addresses import Address
from good_tide.servers.stand_ins.smb import end_helpers, programs, set_up
from tests.support.servers import ServedFolder, user_name


class SmbServer(ServedFolder):
    """A server for who runs the test; the test is skipped by name where Samba is missing.

    :param more: lines of its settings (smb.conf(5)).
    """

    kind = "smb"
    password = "lantern-harbour"

    def __init__(self, folder: Path, more: str = "", before: tuple[str, ...] = ()) -> None:
        if programs() is None:
            raise unittest.SkipTest("smbd is missing: apt-get install samba")
        super().__init__(folder, before)
        self.words = set_up(folder, self.files, self.port, self.password, more)
        self.start()

    def stop(self) -> None:
        super().stop()
        end_helpers(self.folder)

    @property
    def address(self) -> Address:
        return Address("smb", user_name(), self.host, self.port, "/store")
