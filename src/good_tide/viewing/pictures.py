"""Pictures and drawings, as pixels."""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING

import zstandard

from good_tide.core.previews import LARGEST_SIDE, PicturePreview, Pixels, Preview
from good_tide.core.translation import tr
from good_tide.core.words import number_words
from good_tide.viewing.content import Content, Unreadable
from good_tide.viewing.texts import decode_text

if TYPE_CHECKING:
    from PIL import Image

_LIMIT = 32 << 20
MOST_PACKED = 2 << 20
"""Bytes of a picture, packed, that are sent."""
_MOST_PIXELS = 120_000_000
_BEGINNINGS = (
    b"\x89PNG\r\n",
    b"\xff\xd8\xff",
    b"GIF8",
    b"BM",
    b"II*\0",
    b"MM\0*",
    b"\0\0\1\0",
    b"P5\n",
    b"P6\n",
)
_FORMATS = ("PNG", "JPEG", "GIF", "BMP", "WEBP", "TIFF", "ICO", "PPM")
_OUTSIDE = re.compile(r"""((?:xlink:)?href\s*=\s*)(["'])(?!\s*(?:#|data:))[^"']*\2""", re.IGNORECASE)
"""References of a drawing to what lies outside of it (SVG 2, 16.1)."""
_FONTS = Path(__file__).parent.parent / "desktop" / "fonts"


def as_pixels(image: Image.Image, largest: int = LARGEST_SIDE, most: int = MOST_PACKED) -> Pixels:
    """A picture as pixels, made smaller where it is large, and until it takes no more than so many bytes
    packed: everything that is shown goes through the window's socket."""
    plain = image.convert("RGBA")
    while True:
        if max(plain.size) > largest:
            plain = plain.copy()
            plain.thumbnail((largest, largest))
        packed = zstandard.compress(plain.tobytes(), 1)
        if len(packed) <= most:
            return Pixels(plain.width, plain.height, packed)
        largest = max(1, int(max(plain.size) * 0.8))


class PictureReader:
    """Pictures made of pixels."""

    limit = _LIMIT

    def matches(self, name: str, head: bytes) -> bool:
        return head.startswith(_BEGINNINGS) or (head.startswith(b"RIFF") and head[8:12] == b"WEBP")

    def preview(self, content: Content) -> Preview:
        from PIL import Image, ImageOps  # only where something hostile may be read

        Image.MAX_IMAGE_PIXELS = _MOST_PIXELS
        if not content.whole:
            raise Unreadable("The picture is too large to be shown here.")
        with Image.open(content.stream(), formats=_FORMATS) as image:
            width, height = image.size
            if width * height > _MOST_PIXELS:
                raise Unreadable(f"The picture is too large to be shown here: {width:,} × {height:,} pixels.")
            facts = tr("{width} × {height} pixels, {format}").format(
                width=number_words(width), height=number_words(height), format=image.format
            )
            image.draft("RGB", (LARGEST_SIDE, LARGEST_SIDE))
            return PicturePreview(as_pixels(ImageOps.exif_transpose(image)), facts)


class DrawingReader:
    """Drawings (SVG 2). What they refer to outside of themselves is not fetched."""

    limit = 8 << 20

    def matches(self, name: str, head: bytes) -> bool:
        return name.lower().endswith(".svg") and b"<svg" in head

    def preview(self, content: Content) -> Preview:
        import resvg_py  # only where something hostile may be read
        from PIL import Image

        text, _ = decode_text(content.data)
        if text is None or not content.whole:
            raise Unreadable("The drawing is too large, or no drawing any more.")
        fonts = [str(font) for font in sorted(_FONTS.glob("*.ttf"))]
        drawn = resvg_py.svg_to_bytes(
            svg_string=_OUTSIDE.sub(r"\1\2\2", text),
            width=LARGEST_SIDE,
            background="#ffffff",
            font_files=fonts,
            font_family="Inter",
        )
        Image.MAX_IMAGE_PIXELS = _MOST_PIXELS
        with Image.open(Content("", 0, drawn).stream(), formats=("PNG",)) as image:
            return PicturePreview(as_pixels(image), "A drawing")
