"""A share that is mounted: a folder of a test behind a real server of files, which can stand still."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import time
import unittest
from pathlib import Path

from good_tide.lines.mounts import on_share

_SERVER = "/usr/lib/openssh/sftp-server"
_SECONDS = 10.0


class MountedShare:
    """A folder that is mounted in another one, by ``sshfs`` and a server of its own with no network between.

    :param folder: in which both are made.
    """

    def __init__(self, folder: Path) -> None:
        for program in ("sshfs", "fusermount3", _SERVER):
            if shutil.which(program) is None:
                raise unittest.SkipTest(f"{program} is missing: apt-get install sshfs openssh-sftp-server")
        if not os.access("/dev/fuse", os.W_OK):
            raise unittest.SkipTest("/dev/fuse cannot be used here")
        self.files, self.mounted = folder / "served", folder / "mounted"
        self.files.mkdir(parents=True)
        self.mounted.mkdir()
        to_server, from_client = os.pipe()
        to_client, from_server = os.pipe()
        self._server = subprocess.Popen([_SERVER], stdin=to_server, stdout=from_server)
        self._client = subprocess.Popen(
            ["sshfs", "-f", "-o", "passive", f"share:{self.files}", self.mounted],
            stdin=to_client,
            stdout=from_client,
        )
        for handle in (to_server, from_client, to_client, from_server):
            os.close(handle)
        deadline = time.monotonic() + _SECONDS
        while not on_share(self.mounted):
            if self._client.poll() is not None or time.monotonic() > deadline:
                raise AssertionError("the share was not mounted")
            time.sleep(0.02)

    def freeze(self, still: bool = True) -> None:
        """Let its server stand still, or go on."""
        self._server.send_signal(signal.SIGSTOP if still else signal.SIGCONT)

    def die(self) -> None:
        """Let the program that mounted it be killed: the mount stays, and answers nobody."""
        self._client.kill()
        self._client.wait()

    def end(self) -> None:
        """Unmount it."""
        self.die()
        self._server.kill()
        self._server.wait()
        subprocess.run(["fusermount3", "-uz", self.mounted], check=True)
