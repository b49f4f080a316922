"""Paint the main views into a folder, from a demo made anew: ``tools/pictures.py FOLDER``."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

HOME = Path("/home/ada")
_PAINT = (sys.executable, "-m", "tools.painting")


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
        subprocess.run(
            [sys.executable, "-m", "good_tide", "demo", "--no-window"], env=environment, check=True
        )
        for theme, folder in (("light", target), ("dark", HOME / "dark")):
            subprocess.run(
                [*_PAINT, "views", str(HOME / "data/good-tide/demo/settings"), str(folder), theme],
                env=environment,
                check=True,
            )
        harm = [*_PAINT, "harm", str(HOME / "data/good-tide/demo/settings"), str(target)]
        subprocess.run(harm, env=environment, check=True)
        shutil.copy(HOME / "dark" / "timeline-budget.png", target / "timeline-dark.png")
        _set_up(target, environment)
        subprocess.run([*_PAINT, "states", str(target / "status-states.png")], env=environment, check=True)
    finally:
        shutil.rmtree(HOME, ignore_errors=True)


def _set_up(target: Path, environment: dict[str, str]) -> None:
    """Paint the set-up of a machine with the demo's files as its own and stand-in disks."""
    for name in ("Documents", "Pictures", "Music"):
        (HOME / name).mkdir()
    for source, to in (("Office", "Documents"), ("Productions/Winter play", "Pictures"), ("Sound", "Music")):
        shutil.copytree(HOME / "data/good-tide/demo/workstation" / source, HOME / to / Path(source).name)
    rack, settings = HOME, HOME / "config" / "good-tide"
    settings.mkdir(parents=True, exist_ok=True)
    (settings / "stand-in-disks").write_text(f"{rack}\n")
    gib = 1 << 30
    for name, *more in (
        ("Pier", "--capacity", 931 * gib, "--device", "one"),
        ("harbour/archive", "--capacity", 7450 * gib, "--kind", "network", "--file-system", "cifs"),
        ("Attic", "--capacity", 180 * gib, "--kind", "internal", "--device", "stand-in system disk"),
        ("Stage stick", "--capacity", 29 * gib, "--file-system", "exfat", "--device", "two"),
    ):
        subprocess.run(
            [
                sys.executable,
                "-m",
                "good_tide",
                "stand-in",
                "add",
                name,
                "--rack",
                str(rack),
                *map(str, more),
            ],
            env=environment,
            check=True,
        )
    subprocess.run([*_PAINT, "set-up", str(settings), str(target)], env=environment, check=True)


if __name__ == "__main__":
    main()
