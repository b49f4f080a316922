"""Commands that show something on a screen."""

from __future__ import annotations

import os
from pathlib import Path

import click

from good_tide.cli.parameters import PATH, json_option, quiet_json_option
from good_tide.core.errors import PersonError
from good_tide.core.selection import parse_period
from good_tide.core.translation import tr
from good_tide.protocol.wishes import Wish


@click.command("demo")
@click.option("--fresh", is_flag=True, help=tr("Make the demo anew."))
@click.option("--no-window", is_flag=True, help=tr("Only make it, and say where it is."))
@json_option
def demo_command(fresh: bool, no_window: bool, as_json: bool) -> int:
    """Open the window on ten weeks of a made-up workstation. With --json it is only made, and said where."""
    from good_tide.cli.demo import run_demo  # the generator is not needed by any other command
    from good_tide.operations.workplace import this_workplace

    return run_demo(this_workplace(), fresh, no_window, as_json)


@click.command("window")
@click.argument("path", required=False, type=PATH)
@click.option(
    "--at",
    metavar="TIME",
    help=tr("Show PATH as it was at this time, and not as it is in the newest snapshot."),
)
@click.option("--missing", is_flag=True, help=tr("Show what is missing in the folder PATH."))
@click.option("--settings", type=PATH, help=tr("Folder with the job's settings."))
@click.option("--job", default="", metavar="NAME", help=tr("Show this job."))
@click.option(
    "--place", default="", metavar="PLACE", help=tr("timeline, coverage, stores, rhythm or journal.")
)
@click.option(
    "--type",
    "size",
    type=click.Choice(["desktop", "1", "1.25", "1.5", "2"]),
    help=tr("How large type is, from now on; “desktop”: as the desktop says."),
)
@click.option("--activated", is_flag=True, hidden=True)
@quiet_json_option
def window_command(
    path: Path | None,
    at: str | None,
    missing: bool,
    settings: Path | None,
    job: str,
    place: str,
    size: str | None,
    activated: bool,
) -> int:
    """Open the window, or bring the one that is open to the front; with PATH at the history of a file or
    folder, which may be gone."""
    from good_tide.cli.launch import run_window  # Qt is loaded for the window only, in a process of its own

    if path is None and (at or missing):
        raise PersonError(tr("No PATH is named"), tr("Name the file or folder that is meant"))
    before = parse_period(at)[1] if at else 0
    named = os.fsencode(path.absolute()) if path is not None else b""
    token = os.environ.pop("XDG_ACTIVATION_TOKEN", "")
    wish = Wish(job, place or ("timeline" if named else ""), named, before, missing, token)
    wanted = None if size is None else 0.0 if size == "desktop" else float(size)
    return run_window(settings, wish, wanted, activated)


@click.command("panel")
@quiet_json_option
def panel_command() -> int:
    """Show the icon in the desktop's panel: how everything stands, and what one wants from there."""
    from good_tide.cli.launch import run_panel  # as above

    return run_panel()
