"""Starting an agent for a client that finds none."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from good_tide.core.identifiers import JobId
from good_tide.protocol.sockets import answers


def start_agent(settings: Path, while_used: bool = True) -> None:
    """Start an agent that stays while it is used, or until it is ended. If another comes first, this one ends
    by itself."""
    command = [sys.executable, "-m", "good_tide.agent", "--settings", str(settings)]
    command += ["--while-used"] if while_used else []
    environment = {
        **os.environ,
        "MALLOC_ARENA_MAX": "1",
    }  # a process of few, short threads needs no memory of its own for each
    subprocess.Popen(
        command,
        env=environment,
        start_new_session=True,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )


def restart_agent(settings: Path) -> None:
    """Start the agent that runs anew, whatever version it is of, by a process of its own."""
    subprocess.Popen(
        [sys.executable, "-m", "good_tide", "--settings", str(settings), "agent", "restart"],
        start_new_session=True,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )


def show_window(settings: Path, job: JobId, view: str) -> None:
    """Open the window at a place of a job, as a process of its own."""
    command = [
        sys.executable,
        "-m",
        "good_tide",
        "window",
        "--settings",
        str(settings),
        "--job",
        job,
        "--place",
        view,
    ]
    subprocess.Popen(
        command,
        start_new_session=True,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )


def start_agent_early(socket: Path, settings: Path) -> None:
    """Start an agent if none answers, before the slow loading of a window, so that both load at the same
    time."""
    if not answers(socket):
        start_agent(settings)
