"""Living on a machine and leaving it: menu entry, manual page, completions, the agent with every session; and
what stays where."""

from __future__ import annotations

import sys

import click
from click.shell_completion import get_completion_class

from good_tide.cli import output
from good_tide.cli.agent_commands import install_agent, remove_agent
from good_tide.cli.desktop_commands import in_words
from good_tide.cli.manual import manual
from good_tide.cli.options import json_option
from good_tide.cli.output import print_json, say
from good_tide.core.errors import PersonError
from good_tide.core.translation import tr
from good_tide.core.words import size_words
from good_tide.operations.context import Context, this_context
from good_tide.operations.jobs.in_menus import file_managers, may_be_offered, put_into_menus
from good_tide.operations.jobs.leaving import (
    OF_PROGRAM,
    Stays,
    What,
    all_that_stays,
    bytes_of,
    chosen,
    take_away,
    untouchable,
)
from good_tide.operations.restore.restoring import let_go
from good_tide.operations.workplace import this_workplace
from good_tide.system import desktop_entry, service

_SHELLS = ("bash", "zsh", "fish")


def _made() -> dict[str, str]:
    """The manual page, and a completion for each shell, as texts."""
    root = click.get_current_context().find_root().command
    assert isinstance(root, click.Group)
    made = {"man": manual(root)}
    for shell in _SHELLS:
        completion = get_completion_class(shell)
        assert completion is not None
        made[shell] = completion(root, {}, "good-tide", "_GOOD_TIDE_COMPLETE").source()
    return made


@click.command("install")
@click.option("--no-agent", is_flag=True, help=tr("Do not start the agent with every session."))
@click.option(
    "--managers/--no-managers",
    default=None,
    help=tr("Put “Earlier versions” into the menus of file managers, or not; asked without."),
)
@json_option
def install_command(no_agent: bool, managers: bool | None, as_json: bool) -> int:
    """Make the program at home here, for this person: its entry in the desktop's menu, its icon, the manual
    page, completions for bash, zsh and fish, and the agent with every session."""
    files = desktop_entry.install(service.own_command()[0], _made())
    if not no_agent:
        install_agent()
    started_by = service.state().by
    found = put_into_menus(this_workplace()) if _wants_managers(managers, as_json) else []
    if as_json:
        print_json(
            {
                "files": [str(file) for file in files],
                "started_by": started_by,
                "managers": [one.name for one in found],
            }
        )
        return output.DONE
    for file in files:
        say(f"{file}")
    if found:
        say(in_words(found))
    if started_by != "nothing":
        say(tr("The agent is started with every session by {started_by}.").format(started_by=started_by))
    return output.DONE


def _wants_managers(said: bool | None, as_json: bool) -> bool:
    """Whether file managers are to show earlier versions: as it was said, or as a person says who is asked
    once."""
    offered = may_be_offered(this_workplace())
    if said is not None:
        return said
    if not offered or as_json or not sys.stdin.isatty():
        return any(one.installed for one in file_managers(this_workplace()).standings())
    names = ", ".join(offered)
    return click.confirm(
        tr("Put “Earlier versions” into the menus of {names}?").format(names=names), default=True
    )


@click.command("uninstall")
@click.option(
    "--take",
    "takes",
    multiple=True,
    type=click.Choice([*(one.value for one in OF_PROGRAM), "all"]),
    help=tr(
        "Take away what stays under this word, for good; may be given again. Stores are never touched, and a"
        " passphrase only under its own word."
    ),
)
@click.option("--yes", is_flag=True, help=tr("Do not ask before anything is taken away."))
@json_option
def uninstall_command(takes: tuple[str, ...], yes: bool, as_json: bool) -> int:
    """Say what the program has on this machine, where, and how much it takes; take away what --take names.
    The program's own files, and a package that it came with, are taken away by what installed them."""
    context = this_context()
    stays = [*all_that_stays(context), *_program()]
    wanted = chosen(stays, takes)
    kept = [one for one in stays if one not in wanted]
    if wanted and not yes:
        _ask(wanted, as_json)
    if wanted:
        _take(context, wanted)
    if as_json:
        print_json({"taken": [_fields(one) for one in wanted], "stays": [_fields(one) for one in kept]})
        return output.DONE
    for heading, rows in ((tr("Taken away:"), wanted), (tr("There stay:"), kept)):
        if rows:
            say(heading)
        for one in rows:
            size = f", {size_words(bytes_of(one.path))}" if one in kept and one.kind is not What.STORE else ""
            say(f"  {one.kind:<11} {one.path}: {one.what}{size}")
    if not kept:
        say(tr("Nothing stays."))
    elif any(one.kind is not What.STORE for one in kept):
        say(
            tr(
                "“good-tide uninstall --take WORD” takes away what stands under a word. Stores are never"
                " touched."
            )
        )
    return output.DONE


def _program() -> list[Stays]:
    """What the desktop, the shell and the session know of the program."""
    known = [(file, tr("menu entry, manual page or completion")) for file in desktop_entry.installed()]
    known += [(file, tr("starts the program with every session")) for file in service.files()]
    known += [(file, tr("menus of file managers")) for file in file_managers(this_workplace()).installed()]
    return [Stays(str(file), what, What.PROGRAM) for file, what in known]


def _ask(wanted: list[Stays], as_json: bool) -> None:
    """Show what would go, and ask.

    Raises:
        PersonError: nobody can be asked. Abort: it is not wanted.
    """
    if as_json or not sys.stdin.isatty():
        raise PersonError(
            tr("{wanted} things would be deleted for good, {path} among them").format(
                wanted=len(wanted), path=wanted[0].path
            ),
            tr("Give --yes if that is meant"),
        )
    for one in wanted:
        say(f"  {one.kind:<11} {one.path}: {one.what}, {size_words(bytes_of(one.path))}")
    click.confirm(tr("Delete this for good?"), abort=True)


def _take(context: Context, wanted: list[Stays]) -> None:
    """Take things away: first what needs the agent to have ended, and restores by their own way."""
    if any(one.kind in (What.PROGRAM, What.SETTINGS, What.WAITING, What.RECORDS) for one in wanted):
        remove_agent()
    if any(one.kind is What.PROGRAM for one in wanted):
        desktop_entry.remove()
        file_managers(this_workplace()).remove()
    aside = {one.path for one in wanted if one.kind is What.SET_ASIDE}
    for note in context.restores.all():
        if aside.intersection(note.folders):
            let_go(context, note)
    context.journal.close()
    take_away([one for one in wanted if one.kind is not What.SET_ASIDE], untouchable(context))


def _fields(one: Stays) -> dict[str, object]:
    return {**one._asdict(), "kind": str(one.kind)}
