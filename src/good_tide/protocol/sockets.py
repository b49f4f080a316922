"""Where the agent listens."""

from __future__ import annotations

import hashlib
import os
from pathlib import Path


def agent_socket(runtime: Path, settings: Path) -> Path:
    """The socket of the agent that serves the job in a settings folder. Short: the system allows 107 bytes."""
    return runtime / f"agent-{hashlib.sha256(os.fsencode(os.path.abspath(settings))).hexdigest()[:12]}.sock"
