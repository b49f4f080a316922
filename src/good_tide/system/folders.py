"""Where the program keeps its own files, by the XDG base-directory standard."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

import platformdirs

_NAME = "good-tide"


def cache_folder() -> Path:
    """Catalogs; everything in it can be thrown away."""
    return Path(platformdirs.user_cache_dir(_NAME))


def state_folder() -> Path:
    """Locks and journals."""
    return Path(platformdirs.user_state_dir(_NAME))


def data_folder() -> Path:
    """The demo."""
    return Path(platformdirs.user_data_dir(_NAME))


def runtime_folder() -> Path:
    """Sockets; a private folder in the temporary one where the session has no runtime directory."""
    given = os.environ.get("XDG_RUNTIME_DIR")
    if given:
        return Path(given) / _NAME
    return Path(tempfile.gettempdir()) / f"{_NAME}-{os.getuid()}"
