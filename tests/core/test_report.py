"""The report and the picture of a run: whole by themselves, well formed, with all that is known, whatever the names."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest

from calor import loop
from calor.cli import invoke
from calor.demo import DEMOS
from calor.design.file import read
from calor.journal.keeping import simulated
from calor.journal.store import Journal
from calor.report.page import Contents, page
from calor.report.plot import picture, svg

VOID = {"meta", "link", "br", "img", "hr"}


class Outline(HTMLParser):
    """Elements that are open, text by heading, and what would have to be fetched or run."""

    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.headings: list[str] = []
        self.fetched: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag not in VOID:
            self.open.append(tag)
        if tag in ("script", "iframe", "link", "object"):
            self.fetched.append(tag)
        for name, value in attrs:
            if name in ("src", "onload", "onclick") or (name.endswith("href") and not (value or "").startswith("#")):
                self.fetched.append(f"{tag} {name}={value}")

    def handle_endtag(self, tag: str) -> None:
        assert self.open.pop() == tag, self.getpos()

    def handle_data(self, data: str) -> None:
        if self.open and self.open[-1] in ("h1", "h2"):
            self.headings.append(data)


@pytest.mark.parametrize("demo", DEMOS, ids=lambda demo: demo.design.stem)
def test_every_demo_has_a_report(demo: Any) -> None:
    design = read(demo.design).design
    text = page(design, Contents(made="then"))
    outline = Outline()
    outline.feed(text)
    assert outline.open == [] and outline.fetched == [] and "url(" not in text.replace("url(#", "")
    wanted = {design.name, "The loop", "The design in words", "Trials and verdict", "Cautions", "Versions"}
    wanted |= {f"Driver: {design.driver.kind.replace('_', ' ')}"} if design.driver is not None else set()
    assert wanted <= set(outline.headings)
    pictures = re.findall(r"<svg.*?</svg>", text, re.DOTALL)
    assert len(pictures) == len(design.trial)
    for one in pictures:
        ElementTree.fromstring(one)
    assert text == page(design, Contents(made="then")), "the same report of the same design"
    fahrenheit = page(design, Contents(made="then", unit="°F"))
    assert "°F" in fahrenheit and f"{abs(design.setpoint.celsius * 1.8 + 32):.1f}" in fahrenheit


def test_names_that_are_markup_stay_text() -> None:
    design = read(DEMOS[0].design).design
    evil = '<script>alert("x")</script> & "co"'
    trial = design.trial[0].model_copy(update={"name": evil})
    text = page(design.model_copy(update={"name": evil[:80], "notes": evil, "trial": (trial,)}), Contents())
    outline = Outline()
    outline.feed(text)
    assert outline.fetched == [] and text.count("&lt;script&gt;") >= 3


def test_the_command(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    design = tmp_path / "cabinet.toml"
    text = DEMOS[0].design.read_text(encoding="utf-8")
    short = re.sub(r"span_s = \d+", "span_s = 900", text) + "\n[proof]\nruns = 40\n"
    design.write_text(short.replace("[limits]", '[driver]\nkind = "solid_state_relay"\n\n[limits]'), encoding="utf-8")
    out = tmp_path / "report.html"
    with Journal() as book:
        own = read(design).design
        book.keep(*simulated(own, own.trial[0], loop.run(own, own.trial[0]), note="held through <the> night"))
    assert invoke(["report", str(design), "--proof", "--code", "--out", str(out)]) == 0
    written = out.read_text(encoding="utf-8")
    outline = Outline()
    outline.feed(written)
    assert outline.open == [] and outline.fetched == []
    assert {"Proof", "Firmware", "From the journal"} <= set(outline.headings)
    for words in ("Single faults", "rank correlation", "held through &lt;the&gt; night", "root-sum-square", "identical",
                  "local codes and licensed practice", "40 runs with tolerances drawn"):  # fmt: skip
        assert words in written, words
    assert "is safe" not in written
    capsys.readouterr()
    strange = tmp_path / "mine.html"
    strange.write_text("<p>my own page</p>")
    for words, says in (
        (["--out", str(strange)], "may not have written it"), (["--out", str(design)], "takes the name of a .html"),
        (["--out", str(out), "--unit", "R"], "takes C, F or K"), (["--out", str(tmp_path / "no" / "x.html")], "cannot be written"),
    ):  # fmt: skip
        assert invoke(["report", str(design), *words]) == 2
        assert says in capsys.readouterr().err


@pytest.mark.parametrize("demo", DEMOS, ids=lambda demo: demo.design.stem)
def test_a_picture_of_every_demo(demo: Any, tmp_path: Path) -> None:
    design = read(demo.design).design
    trace = loop.run(design, design.trial[-1])
    first = svg(picture(trace, design.limits.band_celsius))
    assert first == svg(picture(trace, design.limits.band_celsius)) and "measured" in first
    ElementTree.fromstring(first)


def test_run_writes_pictures(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    design = str(DEMOS[0].design)
    for name, begins in (("o.svg", b"<?xml"), ("o.png", b"\x89PNG")):
        assert invoke(["run", design, "--plot", str(tmp_path / name)]) == 1
        assert (tmp_path / name).read_bytes().startswith(begins)
        assert invoke(["run", design, "--plot", str(tmp_path / name)]) == 1, "Calor's own is replaced"
    capsys.readouterr()
    (tmp_path / "mine.png").write_bytes(b"\x89PNG of mine")
    for name, says in (("o.pdf", "let it end in .svg or .png"), ("mine.png", "may not have written it")):
        assert invoke(["run", design, "--plot", str(tmp_path / name)]) == 2
        assert says in capsys.readouterr().err


def test_figures_are_the_desks() -> None:
    """Gains in % per degree, shares in %, temperatures and differences in the unit that was asked for."""
    text = page(read(DEMOS[0].design).design, Contents(made="then", unit="°F"))
    table = dict(re.findall(r'<td class="quiet">(.*?)</td><td class="figure">(.*?)</td>', text))
    for title, shown in (
        ("Gain", "12.222 % per °F"), ("R25 tolerance", "1 %"), ("Output maximum", "100 %"), ("Noise", "0.027 °F"),
        ("Highest setpoint", "102.2 °F"), ("Integral time", "900 s"), ("Beta", "3950 K"), ("Switch", "SSR zero cross"),
    ):  # fmt: skip
        assert table[title] == shown
    assert "Alarm deviation low, 1.8 °F." in text and "fraction per" not in text
