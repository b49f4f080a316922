"""Earlier versions in the menus of file managers."""

from __future__ import annotations

import click

from good_tide.cli import output
from good_tide.cli.options import json_option
from good_tide.cli.output import print_json, print_json_list, say, table
from good_tide.core.translation import tr
from good_tide.operations.jobs.in_menus import file_managers, put_into_menus
from good_tide.operations.workplace import this_workplace
from good_tide.system.file_managers import Standing


@click.group("desktop")
def desktop_group() -> None:
    """Earlier versions, and what is missing, in the menus of file managers."""


@desktop_group.command("install")
@json_option
def desktop_install(as_json: bool) -> int:
    """Put “Earlier versions” and “What is missing here” into the menus of the file managers that are on this
    machine, and the window among the programs that folders are opened with."""
    found = put_into_menus(this_workplace())
    if as_json:
        print_json_list({}, "managers", map(_fields, found))
        return output.DONE
    say(in_words(found))
    for one in found:
        if one.lacks:
            say(_lacks(one))
    return output.DONE


@desktop_group.command("remove")
@json_option
def desktop_remove(as_json: bool) -> int:
    """Take it out of all menus again. Nothing of it stays."""
    gone = file_managers(this_workplace()).remove()
    if as_json:
        print_json({"removed": [str(file) for file in gone]})
    else:
        say(tr("Nothing of it is in file managers any more."))
    return output.DONE


@desktop_group.command("status")
@json_option
def desktop_status(as_json: bool) -> int:
    """In which file managers it is."""
    found = file_managers(this_workplace()).standings()
    if as_json:
        print_json_list({}, "managers", map(_fields, found))
        return output.DONE
    table([tr("File manager"), tr("State")], [[one.name, _state(one)] for one in found])
    return output.DONE


def in_words(found: list[Standing]) -> str:
    """Where it is now, in a sentence."""
    if not found:
        return tr("No file manager that is known was found here. Folders can be opened with it all the same.")
    names = ", ".join(one.name for one in found)
    return tr(
        "“Earlier versions” is in the menus of {names}; one that runs shows it after its next start."
    ).format(names=names)


def _lacks(one: Standing) -> str:
    return tr(
        "{name} shows it only with the package {package} (so it is called on Debian and Ubuntu)."
    ).format(name=one.name, package=one.lacks)


def _state(one: Standing) -> str:
    if not one.there:
        return tr("not on this machine")
    if not one.installed:
        return tr("not in its menus: good-tide desktop install")
    return (
        tr("in its menus; it needs the package {package}").format(package=one.lacks)
        if one.lacks
        else tr("in its menus")
    )


def _fields(one: Standing) -> dict[str, object]:
    return {"name": one.name, "here": one.there, "installed": one.installed, "lacks": one.lacks or None}
