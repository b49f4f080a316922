"""``good-tide demo``: make the demo if need be, and open the window on it."""

from __future__ import annotations

import shlex
import sys
from datetime import datetime

from good_tide.cli import launch, output
from good_tide.core.translation import tr
from good_tide.demo.build import DemoFolders, build_demo
from good_tide.operations.workplace import Workplace


def run_demo(here: Workplace, fresh: bool, no_window: bool, as_json: bool = False) -> int:
    """Make the demo when there is none (or ``fresh``), then show it where there is a display."""
    root = here.data / "demo"
    folders = DemoFolders(root)
    if fresh or not folders.complete:
        if not as_json:
            output.say(tr("Making ten weeks of made-up history; this takes some seconds, once."))
        folders = build_demo(root, datetime.now().astimezone(), _tell, here.cache, here.state)
        if output.is_terminal():
            output.say("")
    if as_json:
        paths = {"files": folders.workstation, "store": folders.store, "settings": folders.settings}
        output.print_json({name: str(path) for name, path in paths.items()})
        return output.DONE
    output.say(
        tr("The demo's files lie in {workstation}, its store in {store}.").format(
            workstation=folders.workstation, store=folders.store
        )
    )
    if not no_window and launch.has_display():
        return launch.run_window(folders.settings)
    if not no_window:
        output.say(tr("There is no display here to open the window on. Commands work on it all the same."))
    output.say(tr("By command; its store is called Pier, and opens by itself with these settings:"))
    program = f"good-tide --settings {shlex.quote(str(folders.settings))}"
    for words in ("status", "history Pier", "find Pier budget", "contents Pier latest"):
        output.say(f"  {program} {words}")
    return output.DONE


def _tell(done: int, total: int) -> None:
    if output.is_terminal():
        sys.stdout.write(tr("\r{done} of {total} snapshots").format(done=done, total=total))
        sys.stdout.flush()
