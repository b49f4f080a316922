"""Custom actions of Thunar: one XML file for each person, in which actions of others stay byte for byte."""

from __future__ import annotations

import os
import re
import shlex
from html import escape
from pathlib import Path
from xml.etree import ElementTree

import platformdirs

from good_tide.core.errors import PersonError
from good_tide.core.translation import tr

_END = b"</actions>"
_NONE = b'<?xml version="1.0" encoding="UTF-8"?>\n<actions>\n</actions>\n'
_OURS = re.compile(
    rb"<action>(?:(?!</action>).)*?<unique-id>good-tide-[a-z-]+</unique-id>.*?</action>\s*", re.DOTALL
)
_FILES = "<audio-files/><image-files/><other-files/><text-files/><video-files/>"


def actions_file() -> Path:
    """The person's file."""
    return Path(os.path.dirname(platformdirs.user_config_dir("good-tide"))) / "Thunar" / "uca.xml"


def actions_now() -> bytes:
    """The actions that Thunar has now: the person's, or those of the system, which a file of the person's own
    takes the place of."""
    system = os.environ.get("XDG_CONFIG_DIRS") or "/etc/xdg"
    places = [actions_file(), *(Path(one) / "Thunar" / "uca.xml" for one in system.split(":") if one)]
    return next((place.read_bytes() for place in places if place.is_file()), _NONE)


def with_actions(before: bytes, program: str, earlier: str, missing: str) -> bytes:
    """The file with our actions as the last.

    :param program: its path. :param earlier: what the action is called that shows earlier versions, and
        ``missing`` the one that shows what is missing.

    Raises:
        PersonError: the file cannot be understood.
    """
    plain = without_actions(before)
    try:
        ElementTree.fromstring(plain)
    except ElementTree.ParseError as error:
        raise PersonError(
            tr("{file} cannot be understood ({error})").format(file=actions_file(), error=error),
            tr("Correct it, or move it away: Thunar then has its own actions again"),
        ) from error
    head, end, rest = plain.rpartition(_END)
    if not end:
        head, end, rest = _NONE.rpartition(_END)
    call = f"{shlex.quote(program)} window"
    ours = [
        _action("earlier-versions", earlier, f"{call} -- %f", f"<directories/>{_FILES}"),
        _action("missing", missing, f"{call} --missing -- %f", "<directories/>"),
    ]
    return head + "".join(ours).encode() + end + rest


def without_actions(text: bytes) -> bytes:
    """The file without our actions."""
    return _OURS.sub(b"", text)


def _action(word: str, name: str, command: str, kinds: str) -> str:
    name, command = escape(name, quote=False), escape(command, quote=False)
    return (
        f"<action>\n\t<icon>good-tide</icon>\n\t<name>{name}</name>\n\t<submenu></submenu>\n"
        f"\t<unique-id>good-tide-{word}</unique-id>\n\t<command>{command}</command>\n"
        f"\t<description></description>\n\t<range></range>\n\t<patterns>*</patterns>\n\t{kinds}\n</action>\n"
    )
