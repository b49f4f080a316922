"""Which reader a file needs; the list of all there are."""

from __future__ import annotations

from good_tide.core.previews import Preview
from good_tide.viewing.archives import TarReader, ZipReader
from good_tide.viewing.content import SNIFFED, Content, Reader, Unreadable
from good_tide.viewing.documents import OfficeReader
from good_tide.viewing.facts import facts
from good_tide.viewing.pages import PageReader
from good_tide.viewing.pictures import DrawingReader, PictureReader
from good_tide.viewing.sounds import SoundReader
from good_tide.viewing.texts import DelimitedReader, TextReader

READERS: tuple[Reader, ...] = (
    PictureReader(),
    DrawingReader(),
    SoundReader(),
    PageReader(),
    OfficeReader(),
    ZipReader(),
    TarReader(),
    DelimitedReader(),
    TextReader(),
)
"""The first that matches reads it."""


def reader_of(name: str, head: bytes) -> Reader:
    """Who reads a file, by its name and its first 4,096 bytes. Nothing is parsed."""
    return next(reader for reader in READERS if reader.matches(name, head))


def preview(content: Content) -> Preview:
    """What is shown of a file. It may be hostile: called in a process of its own only (``apart``)."""
    try:
        return reader_of(content.name, content.data[:SNIFFED]).preview(content)
    except Unreadable as error:
        return facts(content, str(error))
    except MemoryError:
        raise
    except Exception as error:
        return facts(content, f"It is damaged, or no file of this kind ({type(error).__name__}).")
