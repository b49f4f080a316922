"""The program's own icons: small drawings with a 1.5 px stroke on a 24 px field, coloured when they are
used."""

from __future__ import annotations

from PySide6.QtCore import QByteArray, QSize, Qt
from PySide6.QtGui import QIcon, QPainter, QPixmap
from PySide6.QtSvg import QSvgRenderer

_DRAWINGS = {
    "timeline": '<path d="M2 15c3 0 3-6 6-6s3 6 6 6 3-8 8-8"/><path d="M2 20h20"/>',
    "coverage": '<rect x="3" y="4" width="18" height="16" rx="1.5"/><path d="M13 4v16M3 13h10M13 9h8"/>',
    "stores": (
        '<rect x="2.5" y="7" width="19" height="10" rx="2.5"/><circle cx="17.5" cy="12" r="1.3"/><path d="M6'
        ' 12h6"/>'
    ),
    "rhythm": '<path d="M4 20v-6M8 20V8M12 20v-9M16 20V5M20 20v-8"/>',
    "journal": '<path d="M4 5h16M4 10h11M4 15h16M4 20h8"/>',
    "folder": '<path d="M3 19V6.5A1.5 1.5 0 0 1 4.5 5h4l2 2.5h9A1.5 1.5 0 0 1 21 9v10z"/>',
    "find": '<circle cx="10.5" cy="10.5" r="6"/><path d="M15 15l6 6"/>',
    "close": '<path d="M6 6l12 12M18 6L6 18"/>',
    "up": '<path d="M12 19V6M6.5 11.5L12 6l5.5 5.5"/>',
    "plus": '<path d="M12 5v14M5 12h14"/>',
    "minus": '<path d="M5 12h14"/>',
    "whole": '<path d="M3 12h18M6.5 8.5L3 12l3.5 3.5M17.5 8.5L21 12l-3.5 3.5"/>',
}

PROGRAM = """<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 64 64">
<rect width="64" height="64" rx="14" fill="#12303A"/>
<path d="M16 12v40M48 12v40" stroke="#8DB7B2" stroke-width="4" stroke-linecap="round"/>
<path d="M10 36c7 0 8-10 15-10s7 12 14 12 8-8 15-8"
fill="none" stroke="#F7F5F0" stroke-width="5" stroke-linecap="round"/></svg>"""


def icon(name: str, color: str, size: int = 24) -> QIcon:
    """One of the icons in a colour."""
    svg = (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24" fill="none" stroke="{color}"'
        f' stroke-width="1.5" stroke-linecap="round" stroke-linejoin="round">{_DRAWINGS[name]}</svg>'
    )
    return _rendered(svg, size)


def program_icon() -> QIcon:
    """The program's icon: a tide line between two marks."""
    return _rendered(PROGRAM, 64)


def _rendered(svg: str, size: int) -> QIcon:
    pixmap = QPixmap(QSize(size, size) * 2)
    pixmap.setDevicePixelRatio(2)
    pixmap.fill(Qt.GlobalColor.transparent)
    painter = QPainter(pixmap)
    QSvgRenderer(QByteArray(svg.encode())).render(
        painter, pixmap.rect().toRectF().adjusted(0, 0, -size, -size)
    )
    painter.end()
    return QIcon(pixmap)
