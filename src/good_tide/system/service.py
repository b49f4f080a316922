"""The agent as a service of a person's session: a systemd user unit, or an XDG autostart entry where there is
no systemd."""

from __future__ import annotations

import shlex
import shutil
import subprocess
import sys
from pathlib import Path

import msgspec
import platformdirs

from good_tide.core.errors import PlaceError

UNIT_NAME = "good-tide-agent.service"
_AUTOSTART_NAME, _PANEL_NAME = "good-tide-agent.desktop", "good-tide-panel.desktop"


class ServiceState(msgspec.Struct, frozen=True):
    """How the agent is started by itself: ``by`` systemd, autostart or nothing; ``active`` as systemd
    says."""

    by: str
    file: str = ""
    active: bool = False


def unit_text(command: list[str]) -> str:
    """The systemd unit (systemd.unit(5), systemd.service(5)). Restarts after a crash, with the lowest claims
    on the machine."""
    return f"""[Unit]
Description=Good Tide agent: takes snapshots by itself
StartLimitIntervalSec=300
StartLimitBurst=10

[Service]
Type=exec
ExecStart={" ".join(_quoted(word) for word in command)}
Environment=MALLOC_ARENA_MAX=1
Restart=on-failure
RestartSec=5
Nice=5
IOSchedulingClass=best-effort
IOSchedulingPriority=7
OOMScoreAdjust=200
TimeoutStopSec=60

[Install]
WantedBy=default.target
"""


def autostart_text(
    command: list[str], name: str = "Good Tide agent", comment: str = "Takes snapshots by itself"
) -> str:
    """An autostart entry (XDG autostart specification 0.5)."""
    return f"""[Desktop Entry]
Type=Application
Name={name}
Comment={comment}
Exec={shlex.join(command)}
Terminal=false
NoDisplay=true
X-GNOME-Autostart-enabled=true
"""


def _quoted(word: str) -> str:
    """A word as systemd reads it: in quotes where it has blanks, with its own marks doubled."""
    plain = word.replace("%", "%%").replace("$", "$$")
    return (
        '"' + plain.replace("\\", "\\\\").replace('"', '\\"') + '"'
        if any(character in plain for character in " \t\"'\\")
        else plain
    )


def own_command(*words: str) -> list[str]:
    """How this program is started: the installed command, or this Python where there is none."""
    installed = Path(sys.executable).with_name("good-tide")
    return [*([str(installed)] if installed.is_file() else [sys.executable, "-m", "good_tide"]), *words]


def _unit_file() -> Path:
    return Path(platformdirs.user_config_dir("systemd")) / "user" / UNIT_NAME


def _autostart_file(name: str = _AUTOSTART_NAME) -> Path:
    return Path(platformdirs.user_config_dir("autostart")) / name


def _systemctl(*words: str) -> subprocess.CompletedProcess[str] | None:
    """Ask the person's systemd; None where none answers."""
    if shutil.which("systemctl") is None:
        return None
    try:
        return subprocess.run(
            ["systemctl", "--user", *words], capture_output=True, text=True, timeout=20, check=False
        )
    except (OSError, subprocess.TimeoutExpired):
        return None


def has_systemd() -> bool:
    """Whether this person's session has a systemd that answers."""
    answer = _systemctl("is-system-running")
    return answer is not None and answer.stdout.strip() in (
        "running",
        "degraded",
        "starting",
        "initializing",
        "maintenance",
    )


def install(running: bool = False) -> ServiceState:
    """Start the agent with every session from now on, and now unless one is running already.

    Raises:
        PlaceError: it cannot be installed.
    """
    command = own_command("agent", "run")
    try:
        _write(
            _autostart_file(_PANEL_NAME),
            autostart_text(own_command("panel"), "Good Tide", "Shows in the panel how snapshots stand"),
        )
        if has_systemd():
            _write(_unit_file(), unit_text(command))
            _autostart_file().unlink(missing_ok=True)
            for words in (
                ("daemon-reload",),
                ("enable", UNIT_NAME),
                *(() if running else (("restart", UNIT_NAME),)),
            ):
                answer = _systemctl(*words)
                if answer is None or answer.returncode:
                    why = answer.stderr.strip() if answer is not None else "it does not answer"
                    raise PlaceError(
                        f"systemd did not take the service ({why})",
                        f"See “systemctl --user status {UNIT_NAME}”",
                    )
        else:
            _write(_autostart_file(), autostart_text(command))
    except OSError as error:
        raise PlaceError(
            f"{error.filename} cannot be written ({error.strerror})", "Check its folder"
        ) from error
    return state()


def _write(file: Path, text: str) -> None:
    file.parent.mkdir(parents=True, exist_ok=True)
    new = file.with_name(f".{file.name}.new")
    new.write_text(text, encoding="utf-8")
    new.replace(file)


def remove(running: bool = False) -> None:
    """Start the agent no longer by itself. One under systemd ends, unless it goes on ``running``."""
    if _unit_file().exists():
        _systemctl("disable", *(() if running else ("--now",)), UNIT_NAME)
        _unit_file().unlink(missing_ok=True)
        _systemctl("daemon-reload")
    for name in (_AUTOSTART_NAME, _PANEL_NAME):
        _autostart_file(name).unlink(missing_ok=True)


def files() -> list[Path]:
    """The files that start the agent and the panel with every session, as far as they are there."""
    places = (_unit_file(), _autostart_file(), _autostart_file(_PANEL_NAME))
    return [file for file in places if file.is_file()]


def start() -> bool:
    """Start the agent's service now; whether systemd did."""
    answer = _systemctl("start", UNIT_NAME)
    return answer is not None and not answer.returncode


def stop() -> bool:
    """End the agent's service; whether systemd did."""
    answer = _systemctl("stop", UNIT_NAME)
    return answer is not None and not answer.returncode


def state() -> ServiceState:
    """How the agent is started by itself."""
    if _unit_file().is_file():
        answer = _systemctl("is-active", UNIT_NAME)
        return ServiceState(
            "systemd", str(_unit_file()), answer is not None and answer.stdout.strip() == "active"
        )
    if _autostart_file().is_file():
        return ServiceState("autostart", str(_autostart_file()))
    return ServiceState("nothing")
