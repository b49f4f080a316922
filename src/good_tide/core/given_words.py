"""Words that people give to things: names of jobs, labels of snapshots. They are shown everywhere, so they
are of one line and no longer than can be read."""

from __future__ import annotations

from good_tide.core.errors import PersonError
from good_tide.core.translation import tr
from good_tide.core.words import number_words

_LONGEST_NAME, _LONGEST_LABEL = 80, 200


def checked_name(name: str) -> str:
    """A job's name as it is kept.

    Raises:
        PersonError: it is none, or could not be shown.
    """
    name = name.strip()
    if not name:
        raise PersonError(tr("The job has no name"), tr("Give it one"))
    _check("name", name, _LONGEST_NAME)
    return name


def checked_label(label: str) -> str:
    """A label as it is kept; empty: there is none.

    Raises:
        PersonError: it could not be shown.
    """
    label = label.strip()
    _check("label", label, _LONGEST_LABEL)
    return label


def _check(what: str, words: str, longest: int) -> None:
    if not words.isprintable():
        raise PersonError(
            tr("The {what} holds characters that cannot be shown").format(what=what),
            tr("Write it in one line of plain text"),
        )
    if len(words) > longest:
        raise PersonError(
            tr("The {what} is of {words} characters").format(what=what, words=number_words(len(words))),
            tr("Write it in at most {longest}").format(longest=longest),
        )
