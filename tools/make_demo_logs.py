"""Make the two recorded runs of the demo as a logger would have written them. All of it is made up.

The recordings come from loads a little unlike the designs', with a logger's jitter, rounding and a gap.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np

from calor import loop
from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.design.trial import AmbientStep, Door, Trial
from calor.judge.advice import changed
from calor.law.on_off import OnOff


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


if __name__ == "__main__":
    cabinet()
    hut()
