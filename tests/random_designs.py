"""Designs nobody has thought of: blocks of every kind with settings drawn at random, under a trial with events."""

from __future__ import annotations

from random import Random

from calor.design.file import parse
from calor.design.model import Design
from calor.errors import DesignError
from tests.conftest import PROBES

LAWS = (
    'kind = "on_off"\nhysteresis_celsius = {1:8}\nmin_on_s = {0:20}\nmin_off_s = {0:20}',
    'kind = "pid"\ngain_per_celsius = {0.01:2}\nintegral_time_s = {20:900}\nderivative_time_s = {0:30}\nsetpoint_weight = {0:1}',
    'kind = "pid"\ngain_per_celsius = {0.01:1}\nslew_per_s = {0.001:0.1}\nramp_celsius_per_s = {0.01:1}\noutput_low = {0:0.1}',
    'kind = "pid"\naction = "heat_cool"\ngain_per_celsius = {0.01:1}\nintegral_time_s = {20:900}',
    'kind = "pid"\ngain_sets = [{{ at_celsius = 30, gain_per_celsius = {0.1:1}, integral_time_s = 90 }}, {{ at_celsius = 60, gain_per_celsius = {0.1:1}, integral_time_s = 300 }}]',
    'kind = "predictive"\nrise_celsius = {30:200}\ntime_constant_s = {20:900}\ndead_time_s = {0:60}\nclosed_loop_s = {20:300}',
    'kind = "fan_curve"\naction = "cool"\nstart_celsius = {25:40}\nfull_celsius = {41:80}\nkick_s = {0:3}\nslew_per_s = {0.01:1}',
    'kind = "stages"\nhysteresis_celsius = {0.5:3}\nstage_delay_s = {0:20}\nstages = [{{ on_offset_celsius = 0 }}, {{ on_offset_celsius = -2 }}, {{ on_offset_celsius = -4 }}]',
    'kind = "timer"\npattern = "repeat"\non_s = {1:20}\noff_s = {1:20}',
    'kind = "manual"\noutput = {0:1}',
)
DRIVES = (
    'kind = "relay"\nmin_on_s = {0:10}\nmin_off_s = {0:10}', 'kind = "linear"', 'kind = "pwm"',
    'kind = "time_proportional"\nwindow_s = {2:30}\nmin_pulse_s = {0:0.5}',
    'kind = "time_proportional"\nwindow_s = {1:9}\nswitch = "ssr_random"',
)  # fmt: skip
LOADS = (
    'kind = "first_order"\nrise_celsius = {40:200}\ntime_constant_s = {20:900}\ndead_time_s = {0:30}',
    'kind = "second_order"\nrise_celsius = {40:200}\ntime_constant_s = {50:900}\nsecond_time_constant_s = {5:60}',
    'kind = "integrating"\nrate_celsius_per_s = {0.01:0.5}\ndrift_celsius_per_s = {0:0.1}\ndead_time_s = {0:20}',
    'kind = "lump"\nheater_watt = {20:900}\nheat_capacity_j_per_k = {100:9000}\nloss_w_per_k = {0.2:9}\nradiating_m2 = {0:0.1}',
    'kind = "chamber"\nheater_watt = {20:300}\nloss_w_per_k = {0.2:3}\nalways_watt = {0:20}\ndead_time_s = {0:9}',
    'kind = "chamber"\nheater_watt = {20:300}\nfan_w_per_k = {0.2:9}\nfan_exponent = {0.4:1}',
    'kind = "liquid"\nheater_watt = {100:900}',
    'kind = "thermoelectric"',
)
SETPOINTS = (
    "celsius = {25:70}", "celsius = {25:70}\nlow_limit_celsius = 20\nhigh_limit_celsius = 90",
    'kind = "program"\nsegments = [{{ to_celsius = {30:50}, rate_celsius_per_min = {1:30}, soak_s = {5:60} }}, {{ to_celsius = {30:60}, ramp_s = {10:90}, soak_s = 9 }}]\nhold_back_celsius = {1:9}',
    'kind = "day_night"\nday_celsius = {25:60}\nnight_celsius = {20:30}',
    'kind = "follow"\nsignal = "ambient"\noffset_celsius = {1:30}',
)  # fmt: skip
EVENTS = (
    '{{ kind = "door", at_s = {1:200}, for_s = {5:90}, extra_loss_w_per_k = {1:9} }}',
    '{{ kind = "ambient_step", at_s = {1:200}, celsius = {0:40} }}',
    '{{ kind = "mains_lost", at_s = {1:200}, for_s = {5:60} }}',
    '{{ kind = "mains_voltage", at_s = {1:200}, voltage_fraction = {0.7:1.2} }}',
    '{{ kind = "setpoint_step", at_s = {1:200}, celsius = {25:70} }}',
    '{{ kind = "probe_open", at_s = {1:200}, for_s = {5:60} }}', '{{ kind = "probe_stuck", at_s = {1:200}, for_s = {5:60} }}',
    '{{ kind = "output_stuck_on", at_s = {1:200}, for_s = {5:60} }}', '{{ kind = "output_inverted", at_s = {1:200} }}',
    '{{ kind = "manual", at_s = {1:200}, for_s = {5:60}, output = {0:1} }}', '{{ kind = "stalled", at_s = {1:200}, for_s = {5:60} }}',
    '{{ kind = "contents_added", at_s = {1:200}, heat_capacity_j_per_k = {50:900}, celsius = {0:30} }}',
)  # fmt: skip
FILTERS = (
    "",
    'filter = { kind = "mean", readings = 5 }',
    'filter = { kind = "median", readings = 3 }',
    'filter = { kind = "exponential", time_constant_s = 4 }',
)


def _filled(text: str, chance: Random) -> str:
    """A text with each {low:high} drawn."""
    out, rest = "", text.replace("{{", "\0").replace("}}", "\1")
    while "{" in rest:
        before, _, after = rest.partition("{")
        ends, _, rest = after.partition("}")
        low, high = (float(end) for end in ends.split(":"))
        out += f"{before}{chance.uniform(low, high):.4g}"
    return (out + rest).replace("\0", "{").replace("\1", "}")


def drawn(seed: int) -> Design:
    """A valid design; the same for the same seed."""
    chance = Random(seed)
    while True:
        probe = chance.choice(['kind = "ideal"', *PROBES.values()]) + f"\nnoise_celsius = {chance.choice([0, 0.05])}"
        probe += f"\ntime_constant_s = {chance.choice([0, 0.5, 5, 60])}\n{chance.choice(FILTERS)}"
        if chance.random() < 0.4:
            probe += "\nchecks = { fastest_celsius_per_s = 2.0, stuck_s = 60.0 }"
        if chance.random() < 0.3 and "adc" not in probe:
            probe += "\nadc = { bits = 12, noise_counts = 1.5, oversampling = 4 }"
        guard = f"cut_out_celsius = {chance.uniform(60, 150):.4g}\nprobe_fault_output = {chance.choice([0, 0.2])}"
        alarms = '[{ kind = "deviation_high", celsius = 2, trips = true, delay_s = 40 }, { kind = "rate_of_rise", celsius = 5, delay_s = 30 }]'
        events = ", ".join(chance.sample(EVENTS, chance.randint(0, 4)))
        period = chance.choice([0.25, 0.5, 1.0, 3.0])
        text = "\n".join(
            [
                f"[setpoint]\n{chance.choice(SETPOINTS)}", f"[law]\nperiod_s = {period}\n{chance.choice(LAWS)}",
                f"[drive]\n{chance.choice(DRIVES)}", f"[load]\n{chance.choice(LOADS)}", "[probe]\n" + probe.replace("{", "{{").replace("}", "}}"),
                "[guard]\n" + guard + (("\nalarms = " + alarms.replace("{", "{{").replace("}", "}}")) if chance.random() < 0.4 else ""),
                f"[[trial]]\nname = \"drawn\"\nspan_s = {chance.choice([100, 211.3, 300])}\nseed = {chance.randint(0, 999)}\nevents = [{events}]",
            ]
        )  # fmt: skip
        try:
            return parse(_filled(text, chance))
        except DesignError:
            continue  # not every load takes every event: draw again
