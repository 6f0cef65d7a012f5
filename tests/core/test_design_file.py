"""Design files: ten lines are enough, every problem is named, comments survive a save."""

from __future__ import annotations

import math
import os
from pathlib import Path
from typing import Any

import pytest
import tomlkit
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import BaseModel, ValidationError

from calor import loop
from calor.demo import DEMOS, FOLDER, STARTER
from calor.design import file, writing
from calor.design.difference import difference
from calor.design.edit import implied
from calor.design.events import EVENT_KINDS
from calor.design.file import parse, read
from calor.design.model import BLOCK_KINDS, Design, block_consequences, block_summary
from calor.design.ranges import usual_range
from calor.design.reference import design_file_reference
from calor.design.trial import Limits, Trial
from calor.errors import DesignError
from calor.files import save_atomically
from calor.law.alarm import Alarm
from calor.law.guard import Guard
from calor.sense.adc import Adc
from calor.sense.knob import Knob
from calor.settings import bounds_of, quantity_of
from calor.units import TEMPERATURE_UNITS
from tests.conftest import TEN_LINES, made

MODELS: list[type[BaseModel]] = [
    *(model for kinds in BLOCK_KINDS.values() for model in kinds.values()), *EVENT_KINDS.values(), Guard, Alarm, Adc, Limits, Trial
]  # fmt: skip


def test_ten_lines_run() -> None:
    design = file.parse(TEN_LINES)
    trace = loop.run(design, design.trial[0])
    assert trace.steps == 3600 and trace.measured_celsius.max() > 49


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", ["is empty", "calor new"]),
        ("[law", ["not TOML", "line 1"]),
        ("format = 2", ["format", "newer", "received 2"]),
        (TEN_LINES.replace('kind = "on_off"', 'kind = "on_off"\nhysteresis_celcius = 2'), ["law.hysteresis_celcius", "unknown key", "did you mean hysteresis_celsius?", "received 2"]),
        (TEN_LINES + "[oven]\nx = 1", ["oven", "unknown key", "known here"]),
        (TEN_LINES.replace("celsius = 50", 'celsius = "50"'), ["setpoint.celsius", "must be a number from", "received '50'"]),
        (TEN_LINES.replace("celsius = 50", "celsius = true"), ["setpoint.celsius", "must be a number", "True"]),
        (TEN_LINES.replace("celsius = 50", "celsius = nan"), ["setpoint.celsius", "must be a number", "nan"]),
        (TEN_LINES.replace("celsius = 50", "celsius = -300"), ["setpoint.celsius", "-273.15", "-300"]),
        (TEN_LINES.replace("celsius = 50", ""), ["setpoint.celsius", "missing"]),
        (TEN_LINES.replace('[probe]\nkind = "ideal"\n', ""), ["probe", "block is missing", 'kind = "thermistor"']),
        (TEN_LINES.replace('"relay"', '"triac"'), ["drive.kind", "relay, time_proportional, pwm, linear", "'triac'"]),
        ("drive = 3\n" + TEN_LINES.replace('[drive]\nkind = "relay"\n', ""), ["drive", "must be a table", "3"]),
        (TEN_LINES.replace('kind = "on_off"', 'kind = "on_off"\nstart_celsius = 4'), ["law", "stop_celsius"]),
        (TEN_LINES.replace('kind = "on_off"', 'kind = "on_off"\nstart_celsius = 4\nstop_celsius = 2'), ["law", "below stop_celsius", "swap"]),
        (TEN_LINES + '[[trial]]\nevents = [ { kind = "door", at_s = 1, extra = 2 } ]', ["trial[1].events[1].extra", "unknown key"]),
        (TEN_LINES + '[[trial]]\nevents = [ { kind = "door", at_s = 1 } ]', ["opens a door", "lump, chamber"]),
        (TEN_LINES + "[[trial]]\nspan_s = 1e8", ["control steps", "shorten its span_s"]),
        (TEN_LINES + "[[trial]]\n[[trial]]", ["two trials are called 'Trial'"]),
        (TEN_LINES + '[guard]\nalarms = [ { kind = "loud", celsius = 2 } ]', ["guard.alarms[1].kind", '"high"', "'loud'"]),
    ],
)  # fmt: skip
def test_bad_designs_are_explained_in_one_line(text: str, says: list[str]) -> None:
    with pytest.raises(DesignError) as caught:
        file.parse(text, "a.toml")
    line = str(caught.value).splitlines()[0]
    assert line.startswith("a.toml: ") and all(word in line for word in says), line
    assert len(caught.value.problems) == 1 and "\n" not in line


def test_unreadable_paths(tmp_path: Path) -> None:
    binary = tmp_path / "binary.toml"
    binary.write_bytes(b"\xff\xfe\x00\x81")
    secret = tmp_path / "secret.toml"
    secret.write_text(TEN_LINES)
    secret.chmod(0)
    # this process's memory: it is there, and nobody can read it from its beginning
    memory = Path("/proc/self/mem")
    cases = {memory: "cannot be read", tmp_path: "is a folder", tmp_path / "none.toml": "no such file", binary: "UTF-8"}
    if os.geteuid() != 0:  # to root every file is readable
        cases[secret] = "may not be read"
    for path, says in cases.items():
        with pytest.raises(DesignError, match=says) as caught:
            file.read(path)
        assert str(path) in str(caught.value)
        assert "give the path of" in str(caught.value) or "chmod" in str(caught.value)


@pytest.mark.parametrize("path", [*(demo.design for demo in DEMOS), STARTER], ids=lambda path: path.stem)
def test_saving_keeps_every_line_that_did_not_change(path: Path) -> None:
    read = file.read(path)
    assert writing.write(read.design, read.text, path.parent) == read.text
    key = "celsius" if read.design.setpoint.kind == "hold" else "high_limit_celsius"
    setpoint = read.design.setpoint.model_copy(update={key: 37.25})
    changed = read.design.model_copy(update={"setpoint": setpoint})
    before, after = read.text.splitlines(), writing.write(changed, read.text, path.parent).splitlines()
    different = [(a, b) for a, b in zip(before, after, strict=True) if a != b]
    assert len(different) == 1 and "37.25" in different[0][1]
    assert different[0][0].partition("#")[2] == different[0][1].partition("#")[2]


def test_saving_another_kind_and_other_trials() -> None:
    read = file.read(DEMOS[0].design)
    law = BLOCK_KINDS["law"]["on_off"].model_validate({"start_celsius": 37.0, "stop_celsius": 38.0})
    trials = (*read.design.trial, Trial(name="more", events=({"kind": "mains_lost", "at_s": 3.5},)))
    changed = Design.model_validate({**dict(read.design), "law": law, "trial": trials})
    text = writing.write(changed, read.text)
    assert file.parse(text) == changed
    assert "gain_per_celsius" not in text and "# 60 W mat" not in text and "Units stand in the names" in text


SAMPLES: dict[str, Any] = {
    "celsius": st.floats(21, 39),
    "gain": st.floats(0, 1000),
    "noise": st.floats(0, 50),
    "span": st.floats(1, 1e5),
}


@settings(max_examples=60, deadline=None)
@given(**SAMPLES, name=st.text(min_size=1, max_size=80).filter(lambda s: s.isprintable()))
def test_round_trip(celsius: float, gain: float, noise: float, span: float, name: str) -> None:
    def rounded(value: float) -> float:
        return float(f"{value:.12g}")

    base = file.read(DEMOS[0].design)
    data = tomlkit.parse(base.text).unwrap()
    data["name"], data["setpoint"]["celsius"] = name, rounded(celsius)
    data["law"]["gain_per_celsius"], data["probe"]["noise_celsius"] = rounded(gain), rounded(noise)
    data["trial"] = [{"name": name, "span_s": rounded(span)}]
    design = Design.model_validate(data)
    assert file.parse(writing.write(design, base.text)) == design
    assert file.parse(writing.write(design)) == design


@pytest.mark.parametrize("model", MODELS, ids=lambda model: model.__name__)
def test_every_setting_is_described_and_guarded(model: type[BaseModel]) -> None:
    """Each key has a title and a hint; each bound rejects what is just outside, NaN, text and truth."""
    assert (model.__doc__ or "").strip().endswith(".")
    required = {
        "kind": "high",
        "celsius": 50.0,
        "at_s": 1.0,
        "power_fraction": 0.5,
        "voltage_fraction": 0.5,
        "reference": 1,
        "heat_capacity_j_per_k": 100.0,
        "output": 0.5,
        "to_fraction": 0.5,
        "watt": 5.0,
    }
    base = {k: required[k] for k, f in model.model_fields.items() if f.is_required()}
    for key, field in model.model_fields.items():
        assert field.title and field.description, f"{model.__name__}.{key}"
        if not quantity_of(field):
            continue
        low, high, open_low = bounds_of(field)
        assert math.isfinite(low) and math.isfinite(high), f"{model.__name__}.{key} has no range"
        outside = [low if open_low else low - 1, high + max(abs(high) * 1e-6, 1), math.nan, math.inf, "1", True, [1]]
        for value in outside:
            with pytest.raises(ValidationError):
                model.model_validate({**base, key: value})


def test_the_reference_is_the_settings() -> None:
    written = Path(__file__).parents[2] / "docs" / "design-file.md"
    assert written.read_text(encoding="utf-8") == design_file_reference(), "run make docs"


@pytest.mark.parametrize("unit", TEMPERATURE_UNITS)
def test_every_kind_has_its_summary(unit: Any) -> None:
    for block, kinds in BLOCK_KINDS.items():
        for kind in kinds:
            body = "celsius = 50" if block == "setpoint" else f'kind = "{kind}"'
            design = made(**{block: body})
            first, second = block_summary(design, block, unit)
            assert first and second and len(first) < 32 and len(second) < 44, (block, kind, first, second)
            for key, line in block_consequences(design, block, unit).items():
                assert line.endswith("."), (block, key)


def test_save_is_atomic(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    target = tmp_path / "a.toml"
    target.write_text("old")
    target.chmod(0o640)
    link = tmp_path / "link.toml"
    link.symlink_to(target)
    save_atomically(link, "new")
    assert target.read_text() == "new" and link.is_symlink() and target.stat().st_mode & 0o777 == 0o640
    monkeypatch.setattr(os, "fsync", lambda _: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(OSError, match="No space"):
        save_atomically(target, "half")
    assert target.read_text() == "new" and sorted(p.name for p in tmp_path.iterdir()) == ["a.toml", "link.toml"]


@pytest.mark.parametrize(
    ("blocks", "part", "key", "value", "want"),
    [
        ({}, "law", "start_celsius", 49.0, {"start_celsius": 49.0, "hysteresis_celsius": None, "stop_celsius": 50.0}),
        ({"law": 'kind = "on_off"\nstart_celsius = 48\nstop_celsius = 51'}, "law", "action", "cool",
         {"action": "cool", "start_celsius": 51.0, "stop_celsius": 48.0}),
        ({"law": 'kind = "on_off"\nstart_celsius = 48\nstop_celsius = 51'}, "law", "hysteresis_celsius", 2.0,
         {"hysteresis_celsius": 2.0, "start_celsius": None, "stop_celsius": None}),
        # the curve of a fan has a start without a stop
        ({"law": 'kind = "fan_curve"'}, "law", "start_celsius", 33.0, {"start_celsius": 33.0}),
        ({"probe": 'kind = "thermocouple"\namplifier_gain = 50'}, "probe", "read_by", "chip", {"converter_celsius_per_code": 0.25}),
        ({"probe": 'kind = "thermistor"'}, "probe", "filter.kind", "mean", {"filter": {"kind": "mean"}}),
        ({}, "design", "second_drive.kind", "same", {"second_drive": None}),
    ],
)  # fmt: skip
def test_what_goes_with_a_choice(
    blocks: dict[str, str], part: str, key: str, value: object, want: dict[str, object]
) -> None:
    assert implied(made(**blocks), part, key, value) == want


def test_a_knob_spans_what_the_design_works_over() -> None:
    knob = implied(made(), "design", "knob.used", True)["knob"]
    assert isinstance(knob, Knob) and (knob.low_celsius, knob.high_celsius) == usual_range(made())


def test_a_difference_in_the_words_of_the_desk() -> None:
    """Title, figures in the desk's unit, and the unit once; what a list holds by the list and its place in it."""
    text = DEMOS[0].design.read_text(encoding="utf-8")
    for old, new, unit, says in (
        ("gain_per_celsius = 0.22", "gain_per_celsius = 0.3", "°C", "Gain 22 → 30 % per °C"),
        ("gain_per_celsius = 0.22", "gain_per_celsius = 0.3", "°F", "Gain 12.222 → 16.667 % per °F"),
        ("at_s = 5400", "at_s = 5000", "°C", "Trial 1 event 1 Start time 5400 → 5000 s"),
        ("high_limit_celsius = 39.0", "high_limit_celsius = 40.0", "K", "Highest setpoint 312.15 → 313.15 K"),
        ("recovery_s = 120", "", "°C", "Recovery 120 s → none"),
        ('switch = "ssr_zero_cross"', 'switch = "relay"', "°C", "Switch SSR zero cross → Relay"),
    ):
        assert old in text, old
        (change,) = difference(parse(text, "", FOLDER), parse(text.replace(old, new), "", FOLDER))
        assert change.words(unit) == says  # type: ignore[arg-type]
    kinds = [
        one.words()
        for one in difference(parse(text, "", FOLDER), read(DEMOS[3].design).design)
        if one.key.endswith("kind")
    ]
    assert (
        "Load Chamber → Liquid" in kinds
        and "Probe Thermistor → RTD" in kinds
        and "Probe filter none → Exponential" in kinds
    )
