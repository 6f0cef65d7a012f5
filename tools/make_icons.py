"""Render the icon in the sizes desktops ask for."""

from __future__ import annotations

import os
from pathlib import Path

SIZES_PX = (16, 22, 24, 32, 48, 64, 128, 256, 512)

if __name__ == "__main__":
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtGui import QGuiApplication, QImage, QPainter
    from PyQt6.QtSvg import QSvgRenderer

    application = QGuiApplication([])
    desk = Path(__file__).parent.parent / "src" / "calor" / "desk"
    renderer = QSvgRenderer(str(desk / "calor.svg"))
    for size in SIZES_PX:
        image = QImage(size, size, QImage.Format.Format_ARGB32)
        image.fill(0)
        painter = QPainter(image)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        renderer.render(painter)
        painter.end()
        place = desk / "icons" / f"calor-{size}.png"
        place.parent.mkdir(exist_ok=True)
        image.save(str(place))
        print(f"wrote {place.name}")
