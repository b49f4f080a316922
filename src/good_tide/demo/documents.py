"""Made-up documents of a small theatre's production office. Everything comes from the random generator that
is handed in."""

from __future__ import annotations

import csv
import io
import math
import struct
import wave
import zlib
from collections.abc import Iterable
from random import Random

import numpy as np
import odfdo
import openpyxl

_CUES = (
    "house to half",
    "blackout",
    "window, cold blue",
    "lamp on table",
    "door, warm",
    "rain, slow rise",
    "clock, 12 strokes",
    "curtain out",
    "snow starts",
    "moon through gauze",
    "tea room, amber",
    "follow spot left",
    "harbour, dusk",
    "storm builds",
    "thunder, distant",
    "gulls",
    "footsteps above",
    "fade to embers",
    "street lamps",
    "dawn, slow",
    "music box",
    "bells",
)
_PEOPLE = (
    "Ada Brandt",
    "Jonas Whitlow",
    "Mira Castell",
    "Tobias Fenn",
    "Leonie Marsh",
    "Piet Arends",
    "Salma Idris",
    "Owen Tarrant",
)
_ROOMS = ("Main stage", "Rehearsal room 2", "Foyer", "Paint shop", "Wardrobe")
_WORDS = [
    "the",
    "lantern",
    "over",
    "the",
    "harbour",
    "would",
    "not",
    "stay",
    "lit",
    "and",
    "so",
    "we",
    "moved",
    "the",
    "scene",
    "upstairs",
    "where",
    "the",
    "light",
    "is",
    "kinder",
    "but",
    "the",
    "floor",
    "creaks",
    "under",
    "every",
    "step",
    "please",
    "tell",
    "the",
    "workshop",
    "that",
    "the",
    "door",
    "must",
    "open",
    "outwards",
    "and",
    "that",
    "the",
    "snow",
    "machine",
    "needs",
    "a",
    "new",
    "belt",
    "before",
    "friday",
    "thank",
    "you",
    "for",
    "the",
    "chairs",
    "they",
    "arrived",
    "on",
    "time",
    "and",
    "none",
    "was",
    "broken",
    "the",
    "director",
    "asks",
    "for",
    "a",
    "slower",
    "curtain",
    "in",
    "act",
    "two",
    "and",
    "a",
    "longer",
    "silence",
    "after",
    "it",
]


def sentences(random: Random, count: int) -> str:
    """Some plain sentences."""
    lines = []
    for _ in range(count):
        begin = random.randrange(len(_WORDS) - 14)
        lines.append(" ".join(_WORDS[begin : begin + random.randint(7, 14)]).capitalize() + ".")
    return "\n".join(lines)


def cue_sheet(random: Random, title: str, cues: int) -> list[str]:
    """Lines of a cue sheet."""
    lines = [f"{title}", "Tidewater Playhouse, production office", ""]
    for number in range(1, cues + 1):
        lines.append(f"{random.choice(('LX', 'SD', 'FS'))} {number:02d}  {random.choice(_CUES)}")
    return lines


def budget(random: Random, rows: int) -> list[list[str]]:
    """Rows of a budget."""
    items = (
        "Timber",
        "Paint",
        "Fabric",
        "Lamp hire",
        "Van",
        "Printing",
        "Scores",
        "Tea",
        "Screws",
        "Gauze",
        "Fees",
        "Snow fluid",
    )
    head = ["Item", "Planned", "Spent", "Who"]
    return [
        head,
        *(
            [
                f"{random.choice(items)} {number}",
                f"{random.randint(20, 900)}.00",
                "0.00",
                random.choice(_PEOPLE),
            ]
            for number in range(1, rows)
        ),
    ]


def as_csv(rows: list[list[str]]) -> bytes:
    """Rows as CSV."""
    text = io.StringIO()
    csv.writer(text).writerows(rows)
    return text.getvalue().encode()


def letter(random: Random, to: str, paragraphs: int = 3) -> str:
    """A letter."""
    body = "\n\n".join(sentences(random, random.randint(2, 5)) for _ in range(paragraphs))
    return f"Dear {to},\n\n{body}\n\nYours sincerely,\n{random.choice(_PEOPLE)}\nTidewater Playhouse\n"


def rehearsal_call(random: Random, day: str) -> str:
    """The call sheet of one day."""
    rows = [
        f"{hour:02d}:00  {random.choice(_ROOMS):<18} {', '.join(random.sample(_PEOPLE, 3))}"
        for hour in (10, 12, 14, 16)
    ]
    return f"Rehearsal call, {day}\n\n" + "\n".join(rows) + "\n"


def set_drawing(random: Random, title: str, pieces: int = 12) -> bytes:
    """A ground plan as SVG."""
    shapes = []
    for _ in range(pieces):
        x, y, w, h = (
            random.randint(20, 300),
            random.randint(30, 180),
            random.randint(10, 90),
            random.randint(6, 60),
        )
        fill = random.choice(("#c8a25a", "#8db7b2", "#5b6c8f", "none"))
        shapes.append(f'<rect x="{x}" y="{y}" width="{w}" height="{h}" fill="{fill}" stroke="#12303a"/>')
    arc = '<path d="M10 210 Q200 150 390 210" fill="none" stroke="#12303a" stroke-width="2"/>'
    text = f'<text x="10" y="20" font-size="14" font-family="sans-serif" fill="#12303a">{title}</text>'
    head = '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 400 240">'
    return f"{head}{text}{arc}{''.join(shapes)}</svg>\n".encode()


def poster(random: Random, width: int = 240, height: int = 320) -> bytes:
    """A poster as PNG (RFC 2083): a moon over water."""
    y, x = np.mgrid[0:height, 0:width]
    horizon = int(height * random.uniform(0.5, 0.7))
    sky = np.stack((18 + y // 8, 48 + y // 5, 58 + y // 4), axis=-1)
    water = np.stack((31 + (y % 7), 111 - (y - horizon) // 6, 99 + (x % 5)), axis=-1)
    image = np.where((y < horizon)[..., None], sky, water)
    moon = (x - width * random.uniform(0.25, 0.75)) ** 2 + (y - horizon * 0.45) ** 2 < (
        width * random.uniform(0.1, 0.17)
    ) ** 2
    image = np.where(moon[..., None], np.array([247, 245, 240]), image).clip(0, 255).astype(np.uint8)
    rows = np.concatenate(
        (np.zeros((height, 1), dtype=np.uint8), image.reshape(height, width * 3)), axis=1
    ).tobytes()

    def part(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    size = struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)
    return (
        b"\x89PNG\r\n\x1a\n" + part(b"IHDR", size) + part(b"IDAT", zlib.compress(rows)) + part(b"IEND", b"")
    )


CONTRACT = (
    "Agreement between the Tidewater Playhouse and Mira Castell, guest director",
    "1. Mira Castell directs the winter play. Rehearsals are six weeks, on weekdays from ten to six.",
    "2. The fee is 120 a night, and nothing is owed for nights that are called off by the harbour master.",
    "3. A room by the harbour is kept for her from the first rehearsal to the last night.",
    "4. Whoever wants out says so four weeks before.",
)
"""Paragraphs; the second clause is the one that is missed later."""


def office_text(paragraphs: Iterable[str]) -> bytes:
    """An OpenDocument text."""
    document = odfdo.Document("text")
    document.body.clear()
    for words in paragraphs:
        document.body.append(odfdo.Paragraph(words))
    target = io.BytesIO()
    document.save(target)
    return target.getvalue()


def rota(week: int) -> bytes:
    """A table of who is on duty, as a spreadsheet; each week some of it is another."""
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.title = "Front of house"
    sheet.append(["Evening", "Doors", "Bar", "Cloakroom", "Hours"])
    for number, day in enumerate(("Tuesday", "Wednesday", "Thursday", "Friday", "Saturday")):
        people = [_PEOPLE[(number + week * step + step) % len(_PEOPLE)] for step in (1, 2, 3)]
        sheet.append([day, *people, 4.5 if day == "Saturday" else 3.5])
    target = io.BytesIO()
    book.save(target)
    return target.getvalue()


def sound_cue(random: Random, seconds: float, rate: int = 11025) -> bytes:
    """A sound cue as WAV: a fading tone over noise, 16 bit, one channel."""
    time = np.arange(int(seconds * rate)) / rate
    noise = np.random.default_rng(random.randrange(1 << 30)).normal(0, 0.2, len(time))
    tone = np.sin(2 * math.pi * random.choice((110, 220, 330, 440)) * time) * np.exp(
        -time * random.uniform(0.5, 3)
    )
    samples = ((tone + noise) * 12000).clip(-32000, 32000).astype("<i2")
    data = io.BytesIO()
    with wave.open(data, "wb") as file:
        file.setnchannels(1)
        file.setsampwidth(2)
        file.setframerate(rate)
        file.writeframes(samples.tobytes())
    return data.getvalue()
