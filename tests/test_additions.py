"""One law, drive, load, probe, event and limit more: what CONTRIBUTING says must be touched is all that must be.

The sources are copied, exactly those places are added to from outside, and the copy simulates, judges, generates C that
is bit-identical, documents and shows the new kinds.
"""

from __future__ import annotations

import csv
import json
import os
import re
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import QUICK

ROOT = Path(__file__).parent.parent
LAW = '''
"""Halfway: a fixed share of full output below the setpoint, after a first reading that it waits for."""
from __future__ import annotations
from typing import Literal, NamedTuple
from calor.compiled import compiled
from calor.law.outputs import Demands, Inputs, one
from calor.settings import Settings, choice, duration, fraction

class Halfway(Settings):
    """A share of full output below the setpoint."""
    kind: Literal["halfway"] = choice("halfway", "Law", "A share below the setpoint.", words={"halfway": "Half way"})
    action: Literal["heat", "cool"] = choice("heat", "Action", "Whether more output makes it warmer or colder.")
    period_s: float = duration(1.0, "Control step", "How often the law reads and decides.", 0.001, 3600.0)
    share: float = fraction(0.5, "Share given", "Of full output, below the setpoint.")

class HalfwayNumbers(NamedTuple):
    share: float

class HalfwayState(NamedTuple):
    readings: int

def numbers(settings: Halfway) -> HalfwayNumbers:
    return HalfwayNumbers(settings.share)

def start() -> HalfwayState:
    return HalfwayState(0)

@compiled
def decide(law: HalfwayNumbers, state: HalfwayState, given: Inputs, dt_s: float) -> tuple[HalfwayState, Demands]:
    demand = law.share if state.readings > 0 and given.measured_celsius < given.setpoint_celsius else 0.0
    return HalfwayState(min(state.readings + 1, 1)), one(demand)

def summary(settings, unit, setpoint_celsius):
    return "Half way", f"{settings.share:g}"

def consequences(settings, unit, setpoint_celsius):
    return {"share": "Half of what it could."}
'''
LAW_C = """
{% block settings %}
    float share;                      /* fraction of full output */
{% endblock %}
{% block state %}
    uint8_t readings;                 /* 1 after the first */
{% endblock %}
{% block values %}
    .share = {{ law.halfway.share | f }}, /* fraction */
{% endblock %}
{% block init %}
    state->readings = 0u;
{% endblock %}
{% block step %}
/* A share of full output below the setpoint. */
float {{ prefix }}_decide({{ prefix }}_state *state, float celsius, float dt_s)
{
    (void)dt_s;
    const float demand = state->readings > 0u && celsius < state->setpoint_celsius ? state->settings->share : 0.0f;
    state->readings = 1u;
    return demand;
}
{% endblock %}
"""
DRIVE = '''
"""Booster: gives twice what is asked, at most all."""
from __future__ import annotations
from typing import Literal
from calor.compiled import compiled
from calor.settings import Settings, choice

class Booster(Settings):
    """Twice what is asked."""
    kind: Literal["booster"] = choice("booster", "Drive", "Twice what is asked.", words={"booster": "Booster"})

@compiled
def step(demand: float, now_s: float, end_s: float) -> tuple[float, float]:
    return min(2.0 * demand, 1.0), end_s

def summary(settings, unit, setpoint_celsius):
    return "Booster", "gives twice"

def consequences(settings, unit, setpoint_celsius):
    return {}
'''
LOAD = '''
"""Rod: it warms evenly under heat and does not cool."""
from __future__ import annotations
import math
from typing import Literal, NamedTuple
from calor.compiled import compiled
from calor.load.state import LoadState, Surroundings
from calor.settings import Settings, choice, duration, number, temperature

class Rod(Settings):
    """It warms evenly."""
    kind: Literal["rod"] = choice("rod", "Load", "It warms evenly.", words={"rod": "Rod"})
    ambient_celsius: float = temperature(20.0, "Ambient", "Around it.")
    dead_time_s: float = duration(0.0, "Dead time", "Nothing moves for this long.")
    pace: float = number(0.01, "Pace", "°C/s at full output.", "celsius_per_s", 0.0, 10.0)

class RodNumbers(NamedTuple):
    pace: float

def numbers(settings: Rod) -> RodNumbers:
    return RodNumbers(settings.pace)

@compiled
def after(load: RodNumbers, state: LoadState, level: float, second: float, around: Surroundings, dt_s: float) -> LoadState:
    celsius = state.celsius + load.pace * level * dt_s - around.extra_w_per_k * dt_s
    return LoadState(celsius, state.source_celsius, state.store_celsius, state.added_j_per_k)

@compiled
def warming(load: RodNumbers, state: LoadState, level: float, second: float, around: Surroundings) -> float:
    return load.pace * level - around.extra_w_per_k

def fastest_rate_per_s(settings, extra_w_per_k):
    return 0.0

def settled_celsius(settings, level, ambient_celsius):
    return math.inf

def electric_watt(settings):
    return None

def summary(settings, unit, setpoint_celsius):
    return "Rod", f"{settings.pace:g} °C/s"

def consequences(settings, unit, setpoint_celsius):
    return {}
'''
PROBE = '''
"""Ramp: one volt at 0 °C, and 20 mV more for each degree."""
from __future__ import annotations
from typing import Literal, NamedTuple
from calor.compiled import compiled
from calor.sense.mounting import CONVERTER, Mounted, converter
from calor.settings import choice, number

class Ramp(Mounted):
    """A voltage in a straight line."""
    kind: Literal["ramp"] = choice("ramp", "Probe", "A voltage in a straight line.", words={"ramp": "Ramp"})
    steepness: float = number(0.02, "Steepness", "Volt per °C.", "volt_per_celsius", 0.001, 1.0)
    adc: CONVERTER = converter()

class RampNumbers(NamedTuple):
    steepness: float
    reference_volt: float

def numbers(settings: Ramp) -> RampNumbers:
    return RampNumbers(settings.steepness, settings.adc.reference_volt)

@compiled
def celsius_to_volt(probe: RampNumbers, celsius: float, wiring: int) -> float:
    return 1.0 + probe.steepness * celsius

@compiled
def share_to_celsius(probe: RampNumbers, share: float) -> float:
    return (share * probe.reference_volt - 1.0) / probe.steepness

def tolerances(settings):
    return ()

def title(settings):
    return "Ramp"

def consequences(settings, unit, setpoint_celsius):
    return {"steepness": "Steep enough."}
'''
PROBE_C = """
{% block settings %}
    float steepness;                  /* volt per degree Celsius */
    float reference_volt;             /* volt of the whole scale */
{% endblock %}
{% block values %}
    .steepness = {{ probe.firmware.ramp.steepness | f }}, /* V per degree Celsius */
    .reference_volt = {{ probe.firmware.ramp.reference_volt | f }}, /* V */
{% endblock %}
{% block step %}
/* A voltage in a straight line. */
static bool counts_to_celsius(const {{ prefix }}_settings *settings, float counts, float *celsius)
{
    *celsius = (counts / settings->divisor_counts * settings->reference_volt - 1.0f) / settings->steepness;
    return true;
}
{% endblock %}
"""
EVENT = '''
"""Draught: heat is blown away."""
from typing import ClassVar, Literal
from calor.design.event import EXTRA, Span, Timed
from calor.settings import choice, number

class Draught(Timed):
    """Heat is blown away."""
    at_first: ClassVar = {"for_s": 30.0}
    kind: Literal["draught"] = choice("draught", "Event", "Heat is blown away.", words={"draught": "Draught"})
    force: float = number(0.01, "Force", "How fast it cools.", "number", 0.0, 10.0)

    def problem(self, design) -> str:
        return "" if design.load.kind == "rod" else "lets a draught in, which only a rod feels; use a rod"

    def change(self, design, span: Span) -> None:
        span.values[span.during, EXTRA] += self.force
'''
LIMIT = """    rise_s: Annotated[float | None, On("rise_time_s")] = duration(None, "Rise time", "From 10 to 90 % of the way.")
"""
DESIGN = """
name = "Rod"
[setpoint]
celsius = 24
[law]
kind = "halfway"
share = 0.25
[drive]
kind = "booster"
[load]
kind = "rod"
[probe]
kind = "ramp"
adc = { bits = 16 }
[limits]
rise_s = 700
[[trial]]
name = "From cold"
span_s = 1000
events = [{ kind = "draught", at_s = 901, for_s = 50, force = 0.02 }]
"""
DESK = """
import sys
from calor.desk.app import make_application
from calor.desk.state.desk import Desk
from calor.desk.state.places import Remembered
from calor.desk.state.simulator import Simulator
from calor.desk.window.window import Window
from pathlib import Path
app = make_application()
window = Window(Desk(Simulator(), Remembered()))
window.show()
window.open_first(Path(sys.argv[1]), False)
while window.desk.runs.current is None:
    app.processEvents()
found = [f"{entry.name}|{entry.what}" for entry in __import__("calor.desk.window.entries", fromlist=["x"]).entries_of(window)]
bench = window.bench
cards = [window.ribbon.cards[block].lines[0] for block in ("law", "drive", "load", "probe")]
share = bench.form.fields["law.share"].line.text()
window.desk.view.choose_bench("trial")
events = [bench.form.new_kind.itemText(k) for k in range(bench.form.new_kind.count())]
limit = window.room("loop").verdict.rows["rise_s"].isVisible()
print(__import__("json").dumps({"found": found, "cards": cards, "share": share, "events": events, "limit": limit}))
window.desk.document.undo_stack.setClean()
window.close()
"""


def insert(path: Path, before: str, text: str) -> None:
    """Add text before a place that is there once."""
    source = path.read_text(encoding="utf-8")
    assert source.count(before) == 1, f"{path}: {before!r}"
    path.write_text(source.replace(before, text + before), encoding="utf-8")


@pytest.fixture(scope="module")
def grown(tmp_path_factory: pytest.TempPathFactory) -> Any:
    """Runs `calor`, or Python, on a copy of the sources with one of each more."""
    place = tmp_path_factory.mktemp("grown")
    shutil.copytree(ROOT / "src", place / "src", ignore=shutil.ignore_patterns("__pycache__"))
    home = place / "src" / "calor"
    # a module, its template, and a word in the family's list
    for family, name, module, word in (
        ("law", "halfway", LAW, "LAWS"), ("drive", "booster", DRIVE, "DRIVES"), ("load", "rod", LOAD, "LOADS"),
        ("sense", "ramp", PROBE, "PROBES"),
    ):  # fmt: skip
        (home / family / f"{name}.py").write_text(module, encoding="utf-8")
        registry = home / family / "registry.py"
        insert(registry, f"{word}: tuple[ModuleType, ...] = (", f"from calor.{family} import {name}\n\n")
        text = registry.read_text(encoding="utf-8").replace(
            f"{word}: tuple[ModuleType, ...] = (", f"{word}: tuple[ModuleType, ...] = ({name}, "
        )
        registry.write_text(text, encoding="utf-8")
    templates = home / "firmware" / "sources" / "templates"
    (templates / "law_halfway.j2").write_text(LAW_C, encoding="utf-8")
    (templates / "probe_ramp.j2").write_text(PROBE_C, encoding="utf-8")
    (templates / "drive_booster.j2").write_text("{# It gives what is asked, twice. #}\n", encoding="utf-8")
    # an event: a class, and a word in the list
    (home / "design" / "draught.py").write_text(EVENT, encoding="utf-8")
    insert(
        home / "design" / "events.py",
        "EVENTS: tuple[type[Timed], ...] = (",
        "from calor.design.draught import Draught\n\n\n",
    )
    insert(home / "design" / "events.py", "    Door,\n    AmbientStep,", "    Draught,\n")
    # a limit: a line
    insert(home / "design" / "trial.py", "    energy_wh: Annotated", LIMIT)
    (place / "rod.toml").write_text(DESIGN, encoding="utf-8")
    options = home / "compiled" / "build.py"
    assert QUICK[0] in options.read_text(encoding="utf-8")
    options.write_text(options.read_text(encoding="utf-8").replace(*QUICK), encoding="utf-8")
    environment = {
        **os.environ, "PYTHONPATH": str(place / "src"), "QT_QPA_PLATFORM": "offscreen", "XDG_CACHE_HOME": str(place / "cache"),
        "XDG_CONFIG_HOME": str(place / "config"), "XDG_STATE_HOME": str(place / "state"), "PYTHONDONTWRITEBYTECODE": "",
    }  # fmt: skip

    def run(*words: str) -> str:
        result = subprocess.run(
            [sys.executable, *words], env=environment, cwd=place, capture_output=True, text=True, check=False
        )
        assert result.returncode in (0, 1), result.stderr
        assert "Traceback" not in result.stderr, result.stderr
        return result.stdout

    run.place = place  # type: ignore[attr-defined]
    return run


MAIN = "from calor.cli import main; main()"


def test_they_simulate_and_are_judged(grown: Any) -> None:
    data = json.loads(grown("-c", MAIN, "run", "rod.toml", "--json"))
    # 4 °C at 0.01 °C/s and twice 0.25 of full output: 800 s, and one step before the first decision; 10 to 90 % in 640 s
    metrics = {item["name"]: item for item in data["limits"]}
    assert metrics["rise_s"]["value"] == pytest.approx(640.0, abs=2.0) and metrics["rise_s"]["pass"]
    assert data["metrics"]["peak_celsius"] == pytest.approx(24.0, abs=0.02)
    assert [event["text"] for event in data["events"]][-1] == "draught 50 s"
    grown("-c", MAIN, "run", "rod.toml", "--csv", "rod.csv")
    with (grown.place / "rod.csv").open() as stream:
        rows = {round(float(row["time_s"])): row for row in csv.DictReader(stream)}
    # 50 s at 0.02 °C/s less 0.005 °C/s of heat
    fallen = float(rows[901]["true_celsius"]) - float(rows[951]["true_celsius"])
    assert fallen == pytest.approx(0.75, abs=0.03) and float(rows[500]["delivered"]) == 0.5


def test_their_c_is_bit_identical(grown: Any) -> None:
    data = json.loads(grown("-c", MAIN, "code", "rod.toml", "--check", "--target", "host", "--json"))
    assert data["pass"] and data["reference"]["bit_equal"] and data["reference"]["steps"] == 1000


def test_they_are_checked_documented_and_shown(grown: Any) -> None:
    reference = grown("-c", "from calor.design.reference import design_file_reference; print(design_file_reference())")
    for said in ("`halfway`", "`booster`", "`rod`", "`ramp`", "`draught`", "`rise_s`"):
        assert said in reference
    desk = json.loads(grown("-c", DESK, "rod.toml").strip().splitlines()[-1])
    assert (
        desk["cards"] == ["Half way", "Booster", "Rod", "Ramp on 16 bit"]
        and desk["share"] == "Half of what it could."
        and desk["limit"]
    )
    assert (
        desk["events"][0] == "Draught"
        and "Half way|kind of law" in desk["found"]
        and "Share given|setting of law" in desk["found"]
    )
    refused = f"""
from calor.design.file import parse
from calor.errors import DesignError
try:
    parse({DESIGN!r}.replace('"rod"', '"lump"'))
except DesignError as error:
    print(error)
"""
    assert "trial 'From cold' lets a draught in, which only a rod feels; use a rod" in grown("-c", refused)


def test_what_contributing_says_is_what_was_touched(grown: Any) -> None:
    text = (ROOT / "CONTRIBUTING.md").read_text(encoding="utf-8")
    names = {"law": "halfway", "drive": "booster", "load": "rod", "probe": "ramp", "event": "draught", "limit": ""}
    said = set()
    for kind, name in names.items():
        row = re.search(rf"^  \| {kind} \| (.*?) \|", text, re.MULTILINE)
        assert row is not None, kind
        said |= {path.replace("NAME", name) for path in re.findall(r"`([^`]+)`", row[1])}
    before = {
        path.relative_to(ROOT / "src" / "calor"): path.read_bytes()
        for path in (ROOT / "src" / "calor").rglob("*.*")
        if path.is_file()
    }
    options = Path("compiled", "build.py")  # built quicker in the copy, which is no addition
    before[options] = before[options].replace(*(text.encode() for text in QUICK))
    home = grown.place / "src" / "calor"
    after = {path.relative_to(home): path.read_bytes() for path in home.rglob("*.*") if path.is_file()}
    touched = {str(path) for path, content in after.items() if before.get(path) != content and path.suffix != ".pyc"}
    assert touched == said
