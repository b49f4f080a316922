"""Text and tables on terminals that are too narrow for them."""

from __future__ import annotations

import textwrap

from rich.cells import cell_len

_GAP = 2
_SHORT = 26
"""Cells of the widest column that is never folded: times, sizes and names of snapshots fit in it."""
_NARROWEST = 24
"""Cells that a folded column has at least; with less its cells stand below their rows."""
_INDENT = "    "


def folded_line(line: str, width: int) -> str:
    """A line folded between words, further lines indented a little more than the first. Words that are longer
    than a line stay whole, so that a path can be copied."""
    if cell_len(line) <= width:
        return line
    indent = line[: len(line) - len(line.lstrip())]
    lines = textwrap.wrap(
        line.strip(),
        max(20, width - len(indent)),
        initial_indent=indent,
        subsequent_indent=indent + _INDENT,
        break_long_words=False,
        break_on_hyphens=False,
    )
    return "\n".join(lines)


def folded(text: str, width: int) -> str:
    """Text folded into a column: between words, and a path after its slashes."""
    lines, line = [], ""
    for part in _parts(text):
        while cell_len(part) > width:
            room = width - cell_len(line)
            lines.append(line + part[:room])
            line, part = "", part[room:]
        if cell_len(line) + cell_len(part.rstrip()) > width:
            lines.append(line)
            line = ""
        line += part
    return "\n".join(one.rstrip() for one in [*lines, line] if one.strip())


def _parts(text: str) -> list[str]:
    """The pieces between which text may be folded, each with the blank or slash that it ends with."""
    parts, part = [], ""
    for sign in text:
        part += sign
        if sign in " /" and len(part) > 1:
            parts.append(part)
            part = ""
    return [*parts, part] if part else parts


def fitted(
    headings: list[str], rows: list[list[str]], right: tuple[int, ...], width: int
) -> list[list[str]] | None:
    """The rows of a table that fits a width, its long columns folded; None where too little is left for
    them."""
    widths = _widths(headings, rows)
    long = _long(widths, right)
    if sum(widths) + _GAP * (len(widths) - 1) <= width or not long:
        return rows
    rest = width - _GAP * (len(widths) - 1) - sum(widths[at] for at in range(len(widths)) if at not in long)
    if rest < _NARROWEST * len(long):
        return None
    share = dict(zip(long, _shares([widths[at] for at in long], rest), strict=True))
    return [[folded(cell, share[at]) if at in share else cell for at, cell in enumerate(row)] for row in rows]


def with_long_cells_below(
    headings: list[str], rows: list[list[str]], right: tuple[int, ...], width: int
) -> list[str]:
    """The lines of a table whose long cells stand below each row, the headings' line first."""
    widths = _widths(headings, rows)
    long = _long(widths, right)
    short = [at for at in range(len(headings)) if at not in long]
    lines = []
    for row in [headings, *rows]:
        cells = [row[at].rjust(widths[at]) if at in right else row[at].ljust(widths[at]) for at in short]
        lines.append((" " * _GAP).join(cells).rstrip())
        if row is not headings:
            below = [line for at in long for line in folded(row[at], width - len(_INDENT)).split("\n")]
            lines += [_INDENT + line for line in below if line]
    return lines


def _widths(headings: list[str], rows: list[list[str]]) -> list[int]:
    return [max(cell_len(row[at]) for row in [headings, *rows]) for at in range(len(headings))]


def _long(widths: list[int], right: tuple[int, ...]) -> list[int]:
    return [at for at, one in enumerate(widths) if one > _SHORT and at not in right]


def _shares(wanted: list[int], rest: int) -> list[int]:
    """How much of a width each long column gets: the shorter ones what they need, the others alike."""
    shares = dict.fromkeys(range(len(wanted)), 0)
    left = sorted(shares, key=lambda at: wanted[at])
    while left:
        at = left.pop(0)
        shares[at] = min(wanted[at], rest // (len(left) + 1))
        rest -= shares[at]
    return list(shares.values())
