"""What the inspector shows of a version: text, a picture, or a plain summary; and what differs."""

from __future__ import annotations

import io
import os
import stat
import wave
from pathlib import Path

import charset_normalizer

from good_tide.core.comparing import Comparison, Verdict, compare_lines
from good_tide.core.entries import Entry, Kind
from good_tide.core.errors import PersonError
from good_tide.core.previews import Form, Preview
from good_tide.core.records import Snapshot
from good_tide.core.words import size_words
from good_tide.operations.history.browse import entry_at, read_file
from good_tide.storage.store import Store

_TEXT_LIMIT = 512 * 1024
_PICTURE_LIMIT = 16 * 1024 * 1024
_SNIFF_BYTES = 4096
_ENCODINGS = [
    "utf_16",
    "utf_32",
    "cp1252",
    "cp1250",
    "cp1251",
    "cp1253",
    "cp1254",
    "koi8_r",
    "shift_jis",
    "euc_jp",
    "gb18030",
    "big5",
    "euc_kr",
    "mac_roman",
    "cp437",
]
"""Those in wide use: among all there are, a short text is taken for one that nobody writes."""


def preview(store: Store, entry: Entry) -> Preview:
    """A preview of an entry of a snapshot."""
    if entry.kind is Kind.LINK:
        return Preview(Form.SUMMARY, f"A link to {os.fsdecode(entry.extra.target)!r}")
    if entry.kind is Kind.LEFT_OUT:
        return Preview(Form.SUMMARY, f"Not in this snapshot: {entry.extra.detail or entry.extra.reason}")
    if entry.kind is Kind.FOLDER:
        return Preview(Form.SUMMARY, "A folder")
    head = read_file(store, entry, _SNIFF_BYTES)
    if _is_picture(head, entry.name) and entry.stat.size <= _PICTURE_LIMIT:
        return Preview(Form.PICTURE, picture=read_file(store, entry, _PICTURE_LIMIT))
    data = read_file(store, entry, _TEXT_LIMIT)
    text, encoding = decode_text(data)
    if text is not None:
        return Preview(Form.TEXT, text, encoding, cut=entry.stat.size > _TEXT_LIMIT)
    return Preview(Form.SUMMARY, _summary(data, entry))


def _is_picture(head: bytes, name: bytes) -> bool:
    return head.startswith((b"\x89PNG\r\n", b"\xff\xd8\xff")) or (
        name.lower().endswith(b".svg") and b"<svg" in head
    )


def decode_text(data: bytes) -> tuple[str | None, str]:
    """Text and the name of its encoding; None for what is no text."""
    if not data:
        return "", "empty"
    if b"\0" in data[:_SNIFF_BYTES] and not data.startswith((b"\xff\xfe", b"\xfe\xff")):
        return None, ""
    try:
        return data.decode("utf-8-sig"), "UTF-8"
    except UnicodeDecodeError:
        pass
    best = charset_normalizer.from_bytes(data[: 64 * 1024], threshold=0.15, cp_isolation=_ENCODINGS).best()
    if best is None or best.encoding in ("ascii", "utf_7"):
        return None, ""
    text = data.decode(best.encoding, "replace")
    odd = sum(1 for character in text if not character.isprintable() and character not in "\r\n\t\f")
    return (None, "") if odd > len(text) // 50 else (text, best.encoding.replace("_", "-").upper())


def _summary(data: bytes, entry: Entry) -> str:
    """What can be said of a file that is neither text nor picture."""
    words = [f"{size_words(entry.stat.size)} of data"]
    if data.startswith(b"RIFF") and data[8:12] == b"WAVE":
        words = [_sound_summary(data, entry)]
    elif data.startswith(b"PK\x03\x04"):
        words.append("A ZIP archive, or a document kept as one")
    elif data.startswith(b"%PDF"):
        words.append("A PDF document")
    elif len(set(data[:_SNIFF_BYTES])) > 250:
        words.append("No known kind of file: looks like noise, or compressed or encrypted data")
    first = " ".join(f"{byte:02x}" for byte in data[:16])
    return "\n".join([*words, f"Begins with {first}"])


def _sound_summary(data: bytes, entry: Entry) -> str:
    try:
        with wave.open(io.BytesIO(data)) as sound:
            seconds = (entry.stat.size - 44) / (
                sound.getframerate() * sound.getnchannels() * sound.getsampwidth()
            )
            channels = "1 channel" if sound.getnchannels() == 1 else f"{sound.getnchannels()} channels"
            return (
                f"Sound, {seconds:.1f} s, {sound.getframerate()} Hz, {sound.getsampwidth() * 8} bit,"
                f" {channels}"
            )
    except (wave.Error, EOFError):
        return "A sound file"


def compare_with_disk(store: Store, entry: Entry, path: bytes) -> Comparison:
    """How a version compares with what is on the disk now."""
    try:
        info = os.lstat(path)
    except OSError:
        return Comparison(Verdict.OTHER, "It is not on the disk now")
    if not stat.S_ISREG(info.st_mode):
        return Comparison(Verdict.OTHER, "Something else is on the disk under this name now")
    try:
        with Path(os.fsdecode(path)).open("rb") as file:
            now = file.read(_TEXT_LIMIT)
    except OSError as error:
        words = f"What is on the disk now cannot be read ({os.strerror(error.errno or 0)})"
        return Comparison(Verdict.OTHER, words)
    return _compare(
        read_file(store, entry, _TEXT_LIMIT), now, entry.stat.size == info.st_size, "what is on the disk now"
    )


def compare_versions(store: Store, entry: Entry, before: Entry | None) -> Comparison:
    """How a version compares with the one before it, if there is one."""
    if before is None:
        return Comparison(Verdict.FIRST, "This is the first version")
    if before.kind is not Kind.FILE:
        return Comparison(Verdict.OTHER, "Before, this was no file")
    mine, theirs = read_file(store, entry, _TEXT_LIMIT), read_file(store, before, _TEXT_LIMIT)
    return _compare(mine, theirs, entry.stat.size == before.stat.size, "the version before")


def compare_moments(store: Store, entry: Entry, against: Snapshot, path: bytes) -> Comparison:
    """How a version compares with what stood under a path in another snapshot."""
    try:
        other = entry_at(store, against, path)
    except PersonError:
        return Comparison(Verdict.OTHER, "It is not there at the other mark")
    if other.kind is not Kind.FILE:
        return Comparison(Verdict.OTHER, "At the other mark this is no file")
    mine, theirs = read_file(store, entry, _TEXT_LIMIT), read_file(store, other, _TEXT_LIMIT)
    return _compare(mine, theirs, entry.stat.size == other.stat.size, "the other mark")


def _compare(mine: bytes, theirs: bytes, same_size: bool, other: str) -> Comparison:
    if mine == theirs and same_size and len(mine) < _TEXT_LIMIT:
        return Comparison(Verdict.SAME, f"The same as {other}")
    chosen, standing = decode_text(mine)[0], decode_text(theirs)[0]
    if chosen is None:
        return Comparison(Verdict.OTHER, f"Differs from {other}; no text to compare")
    if standing is None:
        words = f"Differs from {other} in all {len(chosen.splitlines()):,} lines: that is no text any more"
        return Comparison(Verdict.OTHER, words)
    difference = compare_lines(chosen.splitlines(), standing.splitlines())
    return Comparison(Verdict.OTHER, f"Differs from {other}", difference)
