"""What stands on the command line, as values."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from good_tide.core.errors import PersonError


class FilledPath(click.Path):
    """A path of at least one character: an empty one, from a script with a variable that is not set, is not
    the folder that one happens to be in."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if str(value) == "":
            named = param.opts[0] if param is not None and param.opts else "A path"
            raise PersonError(f"{named} is empty", "Give a path")
        return super().convert(value, param, ctx)


PATH = FilledPath(path_type=Path)
