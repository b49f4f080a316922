"""Groups of commands."""

from __future__ import annotations

import importlib
from collections.abc import Mapping
from typing import Any

import click


class LazyGroup(click.Group):
    """Commands that are imported when they are asked for, so that each loads only what it needs.

    :param modules: in which module each command is.
    """

    def __init__(self, *words: Any, modules: Mapping[str, str], **more: Any) -> None:
        super().__init__(*words, **more)
        self._modules = modules

    def list_commands(self, ctx: click.Context) -> list[str]:
        return sorted({*super().list_commands(ctx), *self._modules})

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        module = self._modules.get(cmd_name)
        if module is None:
            return super().get_command(ctx, cmd_name)
        found, name = importlib.import_module(f"good_tide.cli.{module}"), cmd_name.replace("-", "_")
        command: click.Command = getattr(found, f"{name}_command", None) or getattr(found, f"{name}_group")
        return command
