"""The commands about jobs."""

from __future__ import annotations

import click

from good_tide.cli.groups import LazyGroup

_COMMANDS = {
    **dict.fromkeys(("add", "show", "change", "replace-store", "remove"), "job_commands"),
    **dict.fromkeys(("save", "load", "take-over"), "job_file_commands"),
    "list": "job_list_commands",
}


@click.group("job", cls=LazyGroup, modules=_COMMANDS)
def job_group() -> None:
    """Make, change, save and load jobs: what is covered, and where its stores are."""
