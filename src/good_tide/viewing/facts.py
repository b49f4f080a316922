"""What can be said of any file: its size, what it looks like, its first bytes."""

from __future__ import annotations

from good_tide.core.previews import FactsPreview
from good_tide.core.words import size_words
from good_tide.viewing.content import SNIFFED, Content

_SHOWN = 256
_KNOWN = (
    (b"ID3", "Sound (MP3)"),
    (b"fLaC", "Sound (FLAC)"),
    (b"OggS", "Sound or film (Ogg)"),
    (b"\x1a\x45\xdf\xa3", "Film (Matroska)"),
    (b"SQLite format 3\0", "A database (SQLite)"),
    (b"\x7fELF", "A program or library"),
    (b"Rar!", "An archive (RAR)"),
    (b"7z\xbc\xaf\x27\x1c", "An archive (7z)"),
    (b"\xd0\xcf\x11\xe0", "A document of an old office program"),
    (b"RIFF", "Sound or film (RIFF)"),
    (b"PK\x03\x04", "An archive, or a document kept as one"),
    (b"%PDF", "A PDF document"),
)


def facts(content: Content, trouble: str = "") -> FactsPreview:
    """Facts of a file, without parsing it; ``trouble`` says why it is shown in no better way."""
    data = content.data
    words = [f"{size_words(content.size)} of data"]
    known = next((what for mark, what in _KNOWN if data.startswith(mark)), "")
    if data[4:8] == b"ftyp":
        known = "Film or sound (MP4)"
    if known:
        words.append(known)
    elif data and not any(data[:SNIFFED]):
        words.append("It begins with nothing but zeros")
    elif len(set(data[:SNIFFED])) > 250:
        words.append("No known kind of file: looks like noise, or compressed or encrypted data")
    return FactsPreview("\n".join(words), data[:_SHOWN], trouble)
