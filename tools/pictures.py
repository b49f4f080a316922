"""Paint the main views into a folder, from a demo made anew: ``tools/pictures.py FOLDER``."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

HOME = Path("/home/ada")


def main() -> None:
    """Make the demo in a made-up home, paint light and dark, remove it."""
    target = Path(sys.argv[1]).resolve()
    if HOME.exists():
        sys.exit(f"{HOME} exists; it must not, because the demo is made there")
    names = {
        "XDG_CACHE_HOME": "cache",
        "XDG_STATE_HOME": "state",
        "XDG_DATA_HOME": "data",
        "XDG_CONFIG_HOME": "config",
        "XDG_RUNTIME_DIR": "run",
    }
    environment = {
        **os.environ,
        "HOME": str(HOME),
        "QT_QPA_PLATFORM": "offscreen",
        **{name: str(HOME / folder) for name, folder in names.items()},
    }
    (HOME / "run").mkdir(parents=True, mode=0o700)
    try:
        subprocess.run([sys.executable, "-m", "good_tide", "demo", "--no-window"], env=environment, check=True)
        code = (
            "import sys; from pathlib import Path; from good_tide.cli.launch import render_views\n"
            "render_views(Path(sys.argv[1]), Path(sys.argv[2]), sys.argv[3])"
        )
        for theme, folder in (("light", target), ("dark", HOME / "dark")):
            subprocess.run(
                [sys.executable, "-c", code, str(HOME / "data/good-tide/demo/settings"), str(folder), theme], env=environment, check=True
            )
        shutil.copy(HOME / "dark" / "timeline-winter.png", target / "timeline-dark.png")
    finally:
        shutil.rmtree(HOME, ignore_errors=True)


if __name__ == "__main__":
    main()
