"""What documents kept as ZIP archives must keep to before a package parses them."""

from __future__ import annotations

import zipfile
from xml.etree import ElementTree

import defusedxml.ElementTree
from defusedxml.common import DefusedXmlException

from good_tide.viewing.content import Unreadable

_MOST_PARTS = 4000
_MOST_UNPACKED = 96 << 20
_PIECE = 1 << 20


def check_document(archive: zipfile.ZipFile) -> None:
    """Refuse what unpacks to far more than a document has, and parts that define entities of their own: what
    is said of the size is not believed, everything is unpacked once, and counted.

    Raises:
        Unreadable: it is refused.
    """
    infos = archive.infolist()
    if len(infos) > _MOST_PARTS:
        raise Unreadable("The document has more parts than any document needs.")
    left = _MOST_UNPACKED
    for info in infos:
        if info.flag_bits & 1:
            raise Unreadable("The document is locked with a password.")
        if info.filename.lower().endswith((".xml", ".rels")):
            left -= _check_part(archive, info, left)


def _check_part(archive: zipfile.ZipFile, info: zipfile.ZipInfo, left: int) -> int:
    """How long a part is. Its definitions of entities, if any, stand at its beginning (XML 1.0, 2.8)."""
    length = 0
    with archive.open(info) as part:
        while piece := part.read(_PIECE):
            length += len(piece)
            if length > left:
                raise Unreadable("The document unpacks to far more than a document has: it is not opened.")
    with archive.open(info) as part:
        try:
            for _ in defusedxml.ElementTree.iterparse(part, events=("start",)):
                break
        except DefusedXmlException as error:
            raise Unreadable("The document defines entities of its own: it is not opened.") from error
        except ElementTree.ParseError:
            return length  # an empty part, say: the package that needs it will judge it
    return length
