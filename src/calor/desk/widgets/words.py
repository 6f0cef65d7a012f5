"""The words the desk uses for the choices of a design file."""

from __future__ import annotations

CHOICES: dict[str, str] = {
    "on_off": "On/off", "pid": "PID", "fan_curve": "Fan", "stages": "Stages", "timer": "Timer", "manual": "Manual",
    "code": "Your own code",
    "repeat": "Repeat", "run_then_stop": "Run, then stop", "wait_then_run": "Wait, then run",
    "cold_start_then_repeat": "Cold start",
    "relay": "Relay", "time_proportional": "Time-proportional", "pwm": "PWM", "linear": "Linear",
    "lump": "Lump", "first_order": "First order", "second_order": "Second order",
    "integrating": "Integrating", "chamber": "Chamber", "liquid": "Liquid", "thermoelectric": "Thermoelectric",
    "thermistor": "Thermistor", "rtd": "RTD", "thermocouple": "Thermocouple", "analog_voltage": "Voltage",
    "analog_current": "Current", "digital": "Digital", "ideal": "Ideal", "hold": "Hold",
    "program": "Program", "day_night": "Day, night", "follow": "Follow", "off": "output off", "fall_to": "falls to",
    "dew_point": "Dew point", "ambient": "Ambient", "each_start": "at each start",
    "probe": "the probe", "difference": "above ambient",
    "nearest": "nearest", "interpolated": "in between", "same": "as the first",
    "solid_state_relay": "Solid state", "transistor_relay": "Transistor, relay",
    "mean": "Mean", "exponential": "Exponential", "median": "Median",
    "divider": "Divider", "current": "Current source", "bridge": "Bridge", "ratiometric": "Ratiometric",
    "beta": "R25 and beta", "steinhart_hart": "A, B and C", "points": "Points", "amplifier": "Amplifier",
    "chip": "Chip", "True": "yes", "False": "no", "integer": "int16", "float": "float",
    "auto": "as points allow", "offset": "Offset", "gain_offset": "Offset and gain", "curve": "Curve",
    "heat": "Heats", "cool": "Cools", "heat_cool": "Heats and cools",
    "centred": "Centred", "below": "Below", "above": "Above",
    "low_side": "Low side", "high_side": "High side",
    "ssr_zero_cross": "SSR, zero cross", "ssr_random": "SSR, random", "mosfet": "MOSFET",
    "clamp": "Clamping", "back_calculate": "Back-calculation", "none": "none",
    "standard": "Gain Ti Td", "parallel": "Kp Ki Kd", "series": "series", "band": "band",
    "2^n": "2ⁿ", "2^n-1": "2ⁿ − 1",
    "door": "Door open", "ambient_step": "Ambient step", "power_step": "Power step", "mains_voltage": "Mains voltage",
    "setpoint_step": "Setpoint step",
    "probe_open": "Probe open", "probe_short": "Probe shorted",
    "probe_reversed": "Wires swapped", "probe_stuck": "Code stuck", "mains_lost": "Mains lost",
    "contents_added": "Contents put in", "knob_turned": "Knob turned", "stalled": "Firmware hangs",
    "output_stuck_on": "Switch stuck on", "output_stuck_off": "Switch stuck off", "output_inverted": "Output inverted",
    "alarm_high": "Too high", "alarm_low": "Too low", "alarm_deviation_high": "Above the setpoint",
    "alarm_deviation_low": "Below the setpoint", "alarm_in_band": "Inside the band",
    "alarm_out_of_band": "Outside the band",
    "alarm_probe_fault": "Probe fault", "alarm_loop_break": "Loop break",
    "alarm_rate_of_rise": "Rises too fast",
    "high": "above", "low": "below", "deviation_high": "above setpoint by", "deviation_low": "below setpoint by",
}  # fmt: skip

BLOCKS: dict[str, str] = {
    "setpoint": "Setpoint", "law": "Law", "drive": "Drive", "load": "Load", "probe": "Probe", "trial": "Trial",
}  # fmt: skip

CAUTIONS: dict[str, str] = {
    "setpoint": "Simulation is not proof of safety. Eggs, food, medicine and animals need an independent thermometer"
    " and alarm.",
    "drive": "Mains wiring is for licensed persons and local codes. Relays weld and SSRs fail shorted: fit a cut-out"
    " that shares nothing with this switch, and a fuse.",
    "probe": "A reading is only as good as its probe is mounted. Near mains use an isolated probe, wired by a licensed"
    " person to local code.",
    "load": "Keep combustibles away from the heater and never leave a first run alone. Near water, use residual-current"
    " protection.",
}


FORMS: dict[tuple[bool, bool], str] = {
    (False, False): "Float", (False, True): "Float, table", (True, False): "Fixed", (True, True): "Fixed, table",
}  # fmt: skip
"""How the generated C computes: whether in fixed point, and whether by a table."""


def word(choice: str) -> str:
    """The word shown for a choice."""
    return CHOICES.get(choice, choice.replace("_", " "))
