"""Commands that show something on a screen."""

from __future__ import annotations

from pathlib import Path

import click

from good_tide.cli.parameters import PATH, json_option, quiet_json_option
from good_tide.core.translation import tr


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
@quiet_json_option
def window_command(settings: Path | None, job: str, place: str, size: str | None) -> int:
    """Open the window, or bring the one that is open to the front."""
    from good_tide.cli.launch import run_window  # Qt is loaded for the window only, in a process of its own

    wanted = None if size is None else 0.0 if size == "desktop" else float(size)
    return run_window(settings, job, place, wanted)


@click.command("panel")
@quiet_json_option
def panel_command() -> int:
    """Show the icon in the desktop's panel: how everything stands, and what one wants from there."""
    from good_tide.cli.launch import run_panel  # as above

    return run_panel()
