"""What is written about Calor agrees with what there is."""

from __future__ import annotations

import configparser
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calor.cli import VERBS
from calor.desk.strip.time_view import TimeView
from calor.desk.widgets.theme import DARK, LIGHT, Theme

ROOT = Path(__file__).parent.parent
README = (ROOT / "README.md").read_text(encoding="utf-8")


def test_every_link_and_picture_is_there() -> None:
    for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
        for target in re.findall(r"\]\(([^)#:]+)\)", page.read_text(encoding="utf-8")):
            assert (page.parent / target).exists(), f"{page.name}: {target}"
    pictures = {path.name for path in (ROOT / "docs" / "screenshots").iterdir()}
    assert len(pictures) < 20 and all(name in README for name in pictures)


def test_every_verb_is_in_the_readme() -> None:
    assert {verb for verb in VERBS if f"calor {verb}" in README} == set(VERBS) - {"open"}


def test_the_lock_pins_everything_with_hashes() -> None:
    lock = (ROOT / "requirements.lock").read_text(encoding="utf-8")
    pins = re.findall(r"^([\w.-]+)==\S+", lock, re.MULTILINE)
    wanted = [line for line in (ROOT / "requirements.in").read_text().splitlines() if line and not line.startswith("#")]
    assert {name.lower() for name in wanted} <= {name.lower() for name in pins}
    assert "://" not in lock and lock.count("--hash=") > len(pins)


def test_the_menu_entry_names_what_is_shipped() -> None:
    entry = configparser.ConfigParser(interpolation=None)
    entry.read(ROOT / "share" / "calor.desktop", encoding="utf-8")
    assert entry["Desktop Entry"]["Exec"] == "calor %f" and entry["Desktop Entry"]["Icon"] == "calor"
    assert (ROOT / "src" / "calor" / "desk" / "calor.svg").is_file()


def luminance(colour: str) -> float:
    parts = [int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5)]
    red, green, blue = (p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=lambda theme: theme.name)
def test_text_can_be_read(theme: Theme) -> None:
    """Source: WCAG 2.1, success criterion 1.4.3: text at least 4.5 to 1, and 1.4.11: lines of charts at least 3 to 1."""

    def contrast(first: str, second: str) -> float:
        high, low = sorted((luminance(first), luminance(second)), reverse=True)
        return (high + 0.05) / (low + 0.05)

    for ink in ("ink", "quiet", "passed", "failed", "measured"):
        for ground in ("ground", "raised"):
            assert contrast(getattr(theme, ink), getattr(theme, ground)) >= 4.5, (ink, ground)
    assert contrast(theme.rail_ink, theme.rail) >= 4.5 and contrast(theme.rail_quiet, theme.rail) >= 4.5
    for line in ("measured", "heat", "cool", "recorded"):
        assert contrast(getattr(theme, line), theme.ground) >= 3.0, line


@given(
    st.floats(1, 1e7),
    st.lists(st.tuples(st.sampled_from(["zoom", "pan", "look"]), st.floats(0.05, 20), st.floats(-2, 2)), max_size=12),
)
def test_the_view_stays_inside_the_run(span_s: float, moves: list[tuple[str, float, float]]) -> None:
    view = TimeView()
    view.span_s = span_s
    for what, size, share in moves:
        if what == "zoom":
            view.zoom(size, share * span_s)
        elif what == "pan":
            view.pan(share)
        else:
            view.look_at(share * span_s, (share + size) * span_s)
        begin, end = view.shown()
        assert -1e-6 * span_s <= begin < end <= span_s * (1 + 1e-6)
    view.restore()
    assert view.is_whole and view.shown() == (0.0, span_s)
