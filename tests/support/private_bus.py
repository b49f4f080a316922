"""Running code on a message bus of its own."""

from __future__ import annotations

import os
import subprocess
import sys

from tests.support.base import REPOSITORY


def on_a_private_bus(code: str, *before: str, **environment: str) -> subprocess.CompletedProcess[str]:
    """Run Python with a bus of its own."""
    command = ["dbus-run-session", "--", *before, sys.executable, "-c", code]
    return subprocess.run(
        command,
        capture_output=True,
        text=True,
        timeout=600,
        check=False,
        cwd=REPOSITORY,
        env={**os.environ, **environment},
    )
