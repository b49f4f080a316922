"""Words that people give to things: names of jobs, labels of snapshots. They are shown everywhere, so they
are of one line and no longer than can be read."""

from __future__ import annotations

from good_tide.core.errors import PersonError

_LONGEST_NAME, _LONGEST_LABEL = 80, 200


def checked_name(name: str) -> str:
    """A job's name as it is kept.

    Raises:
        PersonError: it is none, or could not be shown.
    """
    name = name.strip()
    if not name:
        raise PersonError("The job has no name", "Give it one")
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
            f"The {what} holds characters that cannot be shown", "Write it in one line of plain text"
        )
    if len(words) > longest:
        raise PersonError(f"The {what} is of {len(words):,} characters", f"Write it in at most {longest}")
