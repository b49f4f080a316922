"""Small files of many kinds, made by the packages that know them, and hostile ones made by hand."""

from __future__ import annotations

import io
import tarfile
import wave
import zipfile
from collections.abc import Mapping, Sequence

import docx
import odfdo
import openpyxl
from PIL import Image


def picture(width: int = 40, height: int = 30, kind: str = "PNG") -> bytes:
    """A picture with a red corner."""
    image = Image.new("RGB", (width, height), (10, 120, 200))
    image.paste((255, 0, 0), (0, 0, width // 2, height // 2))
    return saved(image.save, format=kind)


def saved(save: object, **more: object) -> bytes:
    """What something writes to a file."""
    target = io.BytesIO()
    save(target, **more)  # type: ignore[operator]
    return target.getvalue()


def sound(seconds: float, width: int = 2, channels: int = 2) -> bytes:
    """Silence."""
    target = io.BytesIO()
    with wave.open(target, "wb") as file:
        file.setnchannels(channels)
        file.setsampwidth(width)
        file.setframerate(8000)
        quiet = b"\x80" if width == 1 else b"\0"
        file.writeframes(quiet * (int(8000 * seconds) * channels * width))
    return target.getvalue()


def word_text(*paragraphs: str) -> bytes:
    document = docx.Document()
    for words in paragraphs:
        document.add_paragraph(words)
    return saved(document.save)


def open_text(*paragraphs: str) -> bytes:
    document = odfdo.Document("text")
    document.body.clear()
    for words in paragraphs:
        document.body.append(odfdo.Paragraph(words))
    return saved(document.save)


def sheet(rows: Sequence[Sequence[str | float]], name: str = "Seats") -> bytes:
    book = openpyxl.Workbook()
    table = book.active
    assert table is not None
    table.title = name
    for row in rows:
        table.append(list(row))
    return saved(book.save)


def open_sheet(rows: Sequence[Sequence[str | float]], name: str = "Seats") -> bytes:
    document = odfdo.Document("spreadsheet")
    document.body.clear()
    table = odfdo.Table(name)
    table.set_values([list(row) for row in rows])
    document.body.append(table)
    return saved(document.save)


def zipped(**parts: str) -> bytes:
    """A ZIP archive; two underscores in a name are a slash, one is a full stop."""
    target = io.BytesIO()
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, content in parts.items():
            archive.writestr(name.replace("__", "/").replace("_", "."), content)
    return target.getvalue()


def tarred(how: str, parts: Mapping[str, bytes]) -> bytes:
    """A tar archive, packed or not."""
    target = io.BytesIO()
    with tarfile.open(fileobj=target, mode=f"w:{how}") as archive:  # type: ignore[call-overload]
        for name, content in parts.items():
            info = tarfile.TarInfo(name)
            info.size, info.mtime = len(content), 1_700_000_000
            archive.addfile(info, io.BytesIO(content))
    return target.getvalue()


def pages(count: int = 1) -> bytes:
    """A PDF document of empty pages with one line of text each, made by hand (ISO 32000, 7.5)."""
    kids = " ".join(f"{4 + 2 * number} 0 R" for number in range(count))
    objects = [
        "<< /Type /Catalog /Pages 2 0 R >>",
        f"<< /Type /Pages /Kids [{kids}] /Count {count} >>",
        "<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica >>",
    ]
    for number in range(count):
        words = f"BT /F1 24 Tf 30 100 Td (Page number {number + 1}) Tj ET"
        objects.append(
            f"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 300 200] /Contents {5 + 2 * number} 0 R"
            " /Resources << /Font << /F1 3 0 R >> >> >>"
        )
        objects.append(f"<< /Length {len(words)} >>\nstream\n{words}\nendstream")
    made, places = "%PDF-1.4\n", []
    for number, content in enumerate(objects, 1):
        places.append(len(made))
        made += f"{number} 0 obj\n{content}\nendobj\n"
    table = "".join(f"{place:010d} 00000 n \n" for place in places)
    made += f"xref\n0 {len(objects) + 1}\n0000000000 65535 f \n{table}"
    made += (
        f"trailer\n<< /Size {len(objects) + 1} /Root 1 0 R >>\nstartxref\n{len(made) - len(table)}\n%%EOF\n"
    )
    return made.encode("ascii")
