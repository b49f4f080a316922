"""Where ``good-tide`` begins. It says at once which version it is, without loading the commands."""

from __future__ import annotations

import contextlib
import os
import sys

from good_tide import __version__


def main() -> None:
    """Say the version, or run a command. What does not take the version is left to the commands, which say
    so."""
    if sys.argv[1:] == ["--version"] and sys.stdout is not None:
        with contextlib.suppress(OSError):
            os.write(sys.stdout.fileno(), f"Good Tide {__version__}\n".encode())
            return
    from good_tide.cli.main import main as run

    run()
