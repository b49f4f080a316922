"""Paint the main views into a folder, from a demo made anew: ``tools/pictures.py FOLDER``."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

HOME = Path("/home/ada")


STATES = """
import sys
from pathlib import Path
from good_tide.core.clock import SECOND
from good_tide.core.planning import Wait
from good_tide.core.status import JobFacts
from tools.painting import render_states
hour, gib = 3600 * SECOND, 1 << 30
now = 1_794_840_300 * SECOND
here = dict(
    state="ready", disk="Pier", last=now - hour // 3, next=now + hour * 2 // 3, free=719 * gib,
    full_in_days=400.0,
)
away = dict(here, away_since=now - 26 * hour)
render_states(Path(sys.argv[1]), [
    JobFacts(state="no-job"),
    JobFacts(state="empty", disk="Pier", free=719 * gib),
    JobFacts(**here),
    JobFacts(**dict(here, full_in_days=9.0)),
    JobFacts(**dict(here, by_hand=True, next=0)),
    JobFacts(**dict(here, working="snapshot")),
    JobFacts(**dict(here, due=now - hour)),
    JobFacts(**dict(here, due=now - hour, wait=Wait.BATTERY, battery=17.0)),
    JobFacts(**dict(here, due=now - hour, wait=Wait.PRESENTING)),
    JobFacts(**dict(here, paused_until=now + 2 * hour)),
    JobFacts(**dict(away, held=4, holding=True)),
    JobFacts(**dict(away, holding=False)),
    JobFacts(**dict(here, state="locked")),
    JobFacts(**dict(here, gaps=2)),
    JobFacts(**dict(here, failures=3, failing_since=now - 5 * hour, error="No room left on the disk",
                    advice="Make room, or add a larger disk")),
    JobFacts(**dict(here, state="damaged")),
], now, "light")
"""


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
        code = (
            "import sys; from pathlib import Path; from tools.painting import render_views, socket_of\n"
            "folder = Path(sys.argv[1])\n"
            "render_views(socket_of(folder), folder, Path(sys.argv[2]), sys.argv[3])"
        )
        for theme, folder in (("light", target), ("dark", HOME / "dark")):
            subprocess.run(
                [sys.executable, "-c", code, str(HOME / "data/good-tide/demo/settings"), str(folder), theme],
                env=environment,
                check=True,
            )
        shutil.copy(HOME / "dark" / "timeline-winter.png", target / "timeline-dark.png")
        _set_up(target, environment)
        subprocess.run(
            [sys.executable, "-c", STATES, str(target / "status-states.png")], env=environment, check=True
        )
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
    code = (
        "import sys; from pathlib import Path; from tools.painting import render_set_up, socket_of\n"
        "folder = Path(sys.argv[1])\n"
        "render_set_up(socket_of(folder), folder, Path(sys.argv[2]), 'light')"
    )
    subprocess.run([sys.executable, "-c", code, str(settings), str(target)], env=environment, check=True)


if __name__ == "__main__":
    main()
