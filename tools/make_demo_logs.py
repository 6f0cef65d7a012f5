"""Make the recorded runs of the demo as loggers would have written them. All of it is made up.

The recordings come from loads a little unlike the designs', with a logger's jitter, rounding and a gap.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np

from calor import loop
from calor.demo import AFTER, BATH, BEFORE, DEMOS, WAX
from calor.design.events import AmbientStep, Door
from calor.design.file import read
from calor.design.model import Design
from calor.design.trial import Trial
from calor.judge.advice import changed
from calor.law.on_off import OnOff
from calor.law.setpoint import Hold


def with_law(design: Design, law: OnOff) -> Design:
    return Design.model_validate({**{key: getattr(design, key) for key in Design.model_fields}, "law": law})


def cabinet() -> None:
    """Two hours with an on/off law, time stamps, every 5 s with jitter, ten minutes missing."""
    demo = DEMOS[0]
    design = read(demo.design).design
    design = with_law(design, OnOff(period_s=0.5, hysteresis_celsius=0.6))
    design = changed(design, "load", loss_w_per_k=1.25, contents_j_per_k=1350.0, heater_watt=57.0)
    trial = Trial(name="log", span_s=7200, start_celsius=20.4, ambient_celsius=20.4, seed=21,
                  events=(Door(at_s=4980, for_s=70, extra_loss_w_per_k=8.0),))  # fmt: skip
    trace = loop.run(design, trial)
    chance = np.random.default_rng(5)
    start = datetime(2026, 3, 14, 6, 2, 11, tzinfo=UTC)
    lines = ["timestamp,cabinet temperature (°C),heater"]
    at_s = 0.0
    while at_s < 7195:
        if not 2700 < at_s < 3300:
            row = int(at_s / 0.5)
            stamp = (start + timedelta(seconds=at_s)).strftime("%Y-%m-%d %H:%M:%S.%f")[:-3]
            lines.append(f"{stamp},{trace.measured_celsius[row]:.2f},{int(trace.delivered[row] > 0.5)}")
        at_s += 5.0 + chance.normal(0.0, 0.25)
    demo.log.write_text("\n".join(lines) + "\n", encoding="utf-8")


def hut() -> None:
    """Six hours at the hut: semicolons, decimal commas, seconds, a fan in percent, and a blank reading."""
    demo = DEMOS[1]
    design = read(demo.design).design
    design = changed(changed(design, "load", loss_w_per_k=5.2, always_watt=188.0), "probe", noise_celsius=0.01)
    trial = Trial(name="log", span_s=21600, start_celsius=24.0, ambient_celsius=14.0, seed=31,
                  events=(AmbientStep(at_s=10800, celsius=21.0),))  # fmt: skip
    trace = loop.run(design, trial)
    chance = np.random.default_rng(6)
    lines = ["seconds;shelf temp [C];fan %"]
    at_s = 3.0
    while at_s < 21590:
        row = int(at_s)
        reading = "" if 7200 <= at_s < 7240 else f"{trace.measured_celsius[row]:.2f}".replace(".", ",")
        if not 15000 < at_s < 15900:
            lines.append(f"{at_s:.1f}".replace(".", ",") + f";{reading};{round(trace.delivered[row]) * 100}")
        at_s += 10.0 + chance.normal(0.0, 0.4)
    demo.log.write_text("\n".join(lines) + "\n", encoding="utf-8")


def bath() -> None:
    """What a serial monitor caught of the film bath warming: key=value, a start-up text, and a brown-out on the way."""
    design = read(DEMOS[3].design).design
    design = changed(design, "load", loss_w_per_k=2.9, mass_kg=5.4)
    trial = Trial(name="log", span_s=5400, start_celsius=18.6, ambient_celsius=18.6, seed=41)
    trace = loop.run(design, trial)
    hello = ["film bath controller, build 12", "probe: four wires, ok", "type ? for help"]
    lines, began_s = [*hello], 0.0
    at_s = 0.0
    while at_s < 5395:
        row = int(at_s / design.law.period_s)
        if began_s == 0.0 and at_s > 2600:
            began_s = at_s - 1.2
            lines += [lines.pop()[:14], "", *hello]
        duty = round(255 * float(trace.delivered[max(row - 2, 0) : row + 3].mean()))
        lines.append(f"ms={round((at_s - began_s) * 1000)} bath={trace.measured_celsius[row]:.2f} set=38.0 duty={duty}")
        if int(at_s) % 900 < 5:
            lines.append("* lid closed" if at_s < 4000 else "* tray in")
        at_s += 5.0
    BATH.write_text("\n".join(lines) + "\n", encoding="utf-8")


def melter() -> None:
    """The wax melter under two thresholds: Fahrenheit, 0 to 255, and spikes when the relay drops out."""
    design = read(DEMOS[5].design).design
    design = with_law(design, OnOff(period_s=1.0, hysteresis_celsius=3.0))
    design = changed(design, "load", loss_w_per_k=1.9, mass_kg=1.7)
    design = Design.model_validate({**{key: getattr(design, key) for key in Design.model_fields},
                                    "setpoint": Hold(celsius=76.0)})  # fmt: skip
    trace = loop.run(design, Trial(name="log", span_s=9000, start_celsius=21.0, ambient_celsius=21.0, seed=51))
    chance = np.random.default_rng(7)
    lines = ["elapsed_s,melter temp F,heater"]
    was = 0.0
    for row in range(0, 9000, 6):
        on = float(trace.delivered[row] > 0.5)
        spike = 34.0 * chance.choice((-1.0, 1.0)) if on < was else 0.0
        was = on
        lines.append(f"{row},{trace.measured_celsius[row] * 1.8 + 32.0 + spike:.1f},{255 * int(on)}")
    WAX.write_text("\n".join(lines) + "\n", encoding="utf-8")


def hut_fans() -> None:
    """Two days at the hut before the second fan, and two after, with the air outside."""
    design = read(DEMOS[2].design).design
    for place, day, second_on, mean in ((BEFORE, 3, 90.0, 21.0), (AFTER, 12, 38.0, 22.5)):
        two = changed(design, "law", second_on_celsius=second_on)
        trial = Trial(
            name="log", span_s=172_800, start_celsius=38.0, ambient_celsius=mean, swing_celsius=6.5, seed=61 + day
        )
        trace = loop.run(two, trial)
        chance = np.random.default_rng(day)
        start = datetime(2026, 6, day, 0, 0, 30, tzinfo=UTC)
        lines = ["date;time;shelf [C];outside [C];fan %"]
        for row in range(0, 172_800, 120):
            stamp = (start + timedelta(seconds=row)).strftime("%d.%m.%Y;%H:%M:%S")
            outside = mean + 6.5 * np.cos(2 * np.pi * (row - 50_400) / 86_400) + chance.normal(0.0, 0.08)
            values = f"{trace.measured_celsius[row]:.1f};{outside:.1f};{100 * trace.outputs[0].delivered[row]:.0f}"
            lines.append(f"{stamp};{values.replace('.', ',')}")
        place.write_text("\n".join(lines) + "\n", encoding="utf-8")


if __name__ == "__main__":
    cabinet()
    hut()
    bath()
    melter()
    hut_fans()
