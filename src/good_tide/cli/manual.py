"""The manual page, made from the commands (man(7))."""

from __future__ import annotations

import re

import click

from good_tide import __version__


def manual(root: click.Group) -> str:
    """The manual page of a program and all its commands, in the language of man(7)."""
    context = click.Context(root, info_name="good-tide", **root.context_settings)
    lines = [
        f'.TH GOOD-TIDE 1 "" "Good Tide {__version__}" "User commands"',
        ".SH NAME",
        r"good-tide \- point-in-time snapshots of user folders",
        ".SH SYNOPSIS",
        r".B good-tide",
        r"[\fIOPTION\fR]... \fICOMMAND\fR [\fIARGUMENT\fR]...",
        ".SH DESCRIPTION",
        *_paragraphs(root.help or ""),
        ".SH OPTIONS",
        *_options(root, context),
        ".SH COMMANDS",
        *_commands(root, context),
        ".SH FILES",
        ".TP",
        r"\fI~/.config/good\-tide\fR",
        "Jobs, as TOML and JSON that programs and people read.",
        ".TP",
        r"\fI~/.local/state/good\-tide\fR",
        "Journal, records, log.",
        ".TP",
        r"\fI~/.local/share/good\-tide\fR",
        "Snapshots that wait for a disk that is away.",
        ".TP",
        r"\fI~/.cache/good\-tide\fR",
        "Names of files and folders in stores; can be thrown away.",
    ]
    return "\n".join(lines) + "\n"


def _commands(group: click.Group, above: click.Context) -> list[str]:
    lines: list[str] = []
    for name in group.list_commands(above):
        command = group.get_command(above, name)
        if command is None or command.hidden:
            continue
        context = click.Context(command, info_name=name, parent=above)
        if isinstance(command, click.Group):
            lines += _commands(command, context)
        else:
            usage = " ".join(command.collect_usage_pieces(context))
            lines += [f".SS {_plain(context.command_path)} {_plain(usage)}", *_paragraphs(command.help or "")]
            lines += _options(command, context)
    return lines


def _options(command: click.Command, context: click.Context) -> list[str]:
    lines: list[str] = []
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context)
        if record is not None:
            lines += [".TP", rf"\fB{_plain(record[0])}\fR", _plain(record[1])]
    return lines


def _paragraphs(text: str) -> list[str]:
    lines: list[str] = []
    for part in re.split(r"\n\s*\n", text.strip()):
        lines += [".PP", _plain(" ".join(part.split()))]
    return lines


def _plain(text: str) -> str:
    """Text that man(7) shows as it is: signs that mean something to it are written otherwise."""
    shown = text.replace("\\", r"\e").replace("-", r"\-")
    return rf"\&{shown}" if shown.startswith((".", "'")) else shown
