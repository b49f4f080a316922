"""What stands on the command line, as values."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click
from click.shell_completion import CompletionItem

from good_tide.core.addresses import refuse_address
from good_tide.core.errors import GoodTideError, PersonError
from good_tide.core.translation import tr

if TYPE_CHECKING:
    from good_tide.core.settings import Job


class FilledPath(click.Path):
    """A path of at least one character: an empty one, from a script with a variable that is not set, is not
    the folder that one happens to be in. No address."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if str(value) == "":
            named = param.opts[0] if param is not None and param.opts else "A path"
            raise PersonError(tr("{named} is empty").format(named=named), tr("Give a path"))
        refuse_address(str(value))
        return super().convert(value, param, ctx)


PATH = FilledPath(path_type=Path)


class JobName(click.types.StringParamType):
    """The name of a job, which shells complete."""

    name = "name"

    def shell_complete(
        self, ctx: click.Context, param: click.Parameter, incomplete: str
    ) -> list[CompletionItem]:
        return [CompletionItem(job.name) for job in _jobs(ctx) if job.name.startswith(incomplete)]


class StoreName(click.types.StringParamType):
    """A store's folder, or the name of its disk in a job, or of a job, which shells complete."""

    name = "store"

    def shell_complete(
        self, ctx: click.Context, param: click.Parameter, incomplete: str
    ) -> list[CompletionItem]:
        names = {name for job in _jobs(ctx) for name in (job.name, *(ref.name for ref in job.stores)) if name}
        found = sorted(name for name in names if name.startswith(incomplete))
        return [CompletionItem(name) for name in found] or [CompletionItem(incomplete, type="dir")]


def _jobs(ctx: click.Context) -> list[Job]:
    """The jobs that a command would know; none where their settings cannot be read."""
    from good_tide.operations.workplace import load_jobs, this_workplace  # only when a shell asks

    settings = ctx.find_root().params.get("settings")
    try:
        return load_jobs(this_workplace(settings).settings)
    except (GoodTideError, OSError):
        return []


JOB, STORE = JobName(), StoreName()


Command = TypeVar("Command", bound=Callable[..., Any])


def json_option(command: Command) -> Command:
    """``--json``."""
    return click.option("--json", "as_json", is_flag=True, help=tr("Print one JSON object."))(command)


def quiet_json_option(command: Command) -> Command:
    """The same for commands that print nothing but errors."""
    words = tr("Errors as one JSON object.")
    return click.option("--json", "as_json", is_flag=True, expose_value=False, help=words)(command)
