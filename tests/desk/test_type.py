"""The type can be read: signs that are taken for one another are held apart, and figures are of one width."""

from __future__ import annotations

import itertools
from typing import Any

import numpy as np
import pytest
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QFontInfo, QFontMetricsF, QImage, QPainter
from PyQt6.QtWidgets import QComboBox, QLabel, QLineEdit, QPushButton

from calor.design.events import EVENT_KINDS
from calor.design.model import BLOCK_KINDS
from calor.design.trial import Limits, Trial
from calor.desk.app import make_application
from calor.desk.code.code_editor import CODE_PX
from calor.desk.widgets import theme as look
from calor.desk.widgets.fields import LABEL_PX
from calor.drive import driver as drivers
from calor.law.alarm import Alarm
from calor.law.gains import GainSet
from calor.law.guard import Guard
from calor.law.program import Segment
from calor.law.stages import Stage
from calor.sense.adc import Adc
from calor.sense.checks import Checks
from calor.sense.knob import Button, Knob
from calor.settings import quantity_of

ALIKE = ["([{", ")]}", "0Oo", "1lI|", ".,", "gq", ":;"]
SHIFTS = list(itertools.product((-1, 0, 1), (-1, 0, 1)))


def glyph(text: str, px: int, mono: bool) -> np.ndarray:
    """Ink of a sign at its size on the screen, 0 to 1."""
    image = QImage(32, 32, QImage.Format.Format_Grayscale8)
    image.fill(Qt.GlobalColor.white)
    painter = QPainter(image)
    painter.setFont(look.font(px, mono=mono))
    painter.drawText(QRectF(6, 4, 24, 24), Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignTop, text)
    painter.end()
    bits = image.constBits()
    assert bits is not None
    bits.setsize(image.sizeInBytes())
    return 1.0 - np.frombuffer(bits, np.uint8).reshape(32, -1)[:, :32].astype(float) / 255.0


@pytest.mark.parametrize(
    ("px", "mono"), [(look.SMALL_PX, False), (look.BODY_PX, False), (look.SMALL_PX, True), (CODE_PX, True)]
)
@pytest.mark.parametrize("signs", ALIKE)
def test_signs_are_held_apart(qapp: Any, signs: str, px: int, mono: bool) -> None:
    """Wherever one is laid over the other, a good part of the ink of the lighter one stays uncovered or is missing."""
    make_application()
    for first, second in itertools.combinations(signs, 2):
        one, other = glyph(first, px, mono), glyph(second, px, mono)
        least = min(float(np.abs(one - np.roll(other, shift, (0, 1))).sum()) for shift in SHIFTS)
        share = least / min(one.sum(), other.sum())
        assert share > 0.2, f"{first} and {second} at {px} px differ in {share:.0%} of their ink"


@pytest.mark.parametrize("px", [look.SMALL_PX, look.BODY_PX, look.TITLE_PX])
def test_figures_are_of_one_width_and_no_gap_follows_a_point(qapp: Any, px: int) -> None:
    make_application()
    for mono in (False, True):
        metrics = QFontMetricsF(look.font(px, mono=mono))
        assert len({round(metrics.horizontalAdvance(figure), 2) for figure in "0123456789"}) == 1
        assert len({round(metrics.horizontalAdvance(figure * 4), 2) for figure in "0123456789"}) == 1
        # "0.5" is as wide as its signs, and in the desk's type the point takes less room than a figure
        assert metrics.horizontalAdvance("0.5f") == pytest.approx(sum(map(metrics.horizontalAdvance, "0.5f")), abs=1.2)
        assert mono or metrics.horizontalAdvance(".") < 0.6 * metrics.horizontalAdvance("0")


def test_every_label_fits_its_column(qapp: Any) -> None:
    """So that the boxes of a bench stand one under the other."""
    make_application()
    metrics = QFontMetricsF(look.font())
    models: list[Any] = [*EVENT_KINDS.values(), *(model for kinds in BLOCK_KINDS.values() for model in kinds.values())]
    models += [Limits, Trial, Alarm, Guard, Knob, Button, Adc, Checks, Segment, Stage, GainSet, *drivers.KINDS.values()]
    for model in models:
        for key, field in model.model_fields.items():
            if quantity_of(field):
                assert metrics.horizontalAdvance(field.title) <= LABEL_PX, (model.__name__, key, field.title)


def test_every_widget_is_set_in_the_shipped_type(standing: Any) -> None:
    """And no other font of the machine shows through."""
    for kind in (QLabel, QPushButton, QLineEdit, QComboBox):
        for widget in standing.findChildren(kind):
            assert QFontInfo(widget.font()).family() in (look.SANS, look.MONO), (widget, widget.font().family())
