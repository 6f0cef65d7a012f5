"""A whole program for a bare chip, built by its own Makefile and run on an emulator beside the load: through codes of the
converter and levels of pins it does what the simulation does, and a slip in its board is noticed."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from calor.demo import DEMOS
from calor.design.file import read
from calor.design.model import Design
from calor.errors import FirmwareError
from calor.firmware import folder
from calor.firmware.check import ported
from calor.firmware.run import board_avr
from calor.firmware.run.bare_board import Bench, Board
from calor.firmware.sources.form import PLAIN, Form, form_of
from calor.firmware.sources.ports import PORTS, Port
from calor.firmware.sources.templating import Sources
from calor.sense.mounting import OPEN
from tests.conftest import made

WITH_ALL = Form(link=True, panel=16)
LOAD = 'kind = "first_order"\nrise_celsius = 100\ntime_constant_s = 100'
NTC = 'kind = "thermistor"\nadc = { bits = %d, oversampling = %d, reference_volt = 5.0, divider_volt = 5.0 }'
DESIGNS: dict[str, Callable[[], Design]] = {
    **{demo.design.stem: lambda path=demo.design: read(path).design for demo in DEMOS},  # type: ignore[misc]
    "knob and button, active low": lambda: made(
        setpoint="celsius = 40", law='kind = "on_off"\nperiod_s = 0.5', drive='kind = "relay"\nactive_low = true',
        load=LOAD, probe=NTC % (8, 5), knob="bits = 12\nlow_counts = 12\nhigh_counts = 4080", button="debounce_s = 0.03",
    ),
    "heats and cools by pulse width": lambda: made(
        setpoint="celsius = 30", law='kind = "pid"\naction = "heat_cool"\nperiod_s = 0.1\ngain_per_celsius = 0.1',
        drive='kind = "pwm"\nfrequency_hz = 1000', load=f"{LOAD}\nsecond_rise_celsius = -50", probe=NTC % (13, 2),
    ),
    "linear": lambda: made(
        law='kind = "pid"\nperiod_s = 0.25\ngain_per_celsius = 0.02', drive='kind = "linear"', load=LOAD, probe=NTC % (12, 1),
    ),
    "stages": lambda: made(
        law='kind = "stages"\nperiod_s = 1\nstages = [{ on_offset_celsius = -1 }, { on_offset_celsius = -2 }, { on_offset_celsius = -40 }]', drive='kind = "relay"', load=LOAD, probe=NTC % (10, 16),
    ),
    "an own thermometer": lambda: made(guard="probe_fault_output = 0.0"),
    "a long step": lambda: made(law='kind = "on_off"\nperiod_s = 12', load=LOAD, probe=NTC % (10, 1)),
}  # fmt: skip
ALL = [pytest.param(port, id=name, marks=_marks) for name, port in PORTS.items() for _marks in [[
    pytest.mark.skipif(name == "avr" and not board_avr.available(), reason="avr-gcc or simavr is not installed"),
]]]  # fmt: skip


def sources_of(design: Design, port: Port, form: Form = PLAIN) -> Sources:
    return folder.made(design, "t", form_of(design.probe, *form), port=port).sources


@pytest.mark.parametrize("port", ALL)
@pytest.mark.parametrize(
    ("name", "form"),
    [
        ("hatching_cabinet", PLAIN), ("hatching_cabinet", Form(fixed=True)), ("radio_hut_fans", PLAIN),
        ("radio_hut_fans", Form(fixed=True, link=True)), ("wax_melter", PLAIN), ("foam_cutter", PLAIN),
        ("knob and button, active low", PLAIN), ("heats and cools by pulse width", PLAIN), ("linear", Form(fixed=True)),
        ("stages", Form(constant=True)), ("a long step", PLAIN),
    ],
    ids=str,
)  # fmt: skip
def test_it_switches_its_pins_as_the_simulation_does(port: Port, name: str, form: Form) -> None:
    data = ported.data(DESIGNS[name](), sources_of(DESIGNS[name](), port, form), port)
    assert data["problems"] == []
    assert data["run_s"] == 60.0
    assert "simulated_mean_level" in data
    moved = abs(data["simulated_end_celsius"] - data["start_celsius"])
    assert moved > 1.0 or max(data["simulated_mean_level"]) > 0.1  # else it could as well stand still


@pytest.mark.parametrize("port", ALL)
@pytest.mark.parametrize("name", ["an own thermometer", "dew_heater", "camera_cooler"])
def test_what_is_the_users_to_read_is_a_fault_until_then(port: Port, name: str) -> None:
    design = DESIGNS[name]()
    data = ported.data(design, sources_of(design, port), port)
    assert "is yours to read" in data["note"]
    assert data["problems"] == []
    if name != "dew_heater":  # its setpoint without a signal holds
        assert max(data["mean_level"]) == design.guard.probe_fault_output


def lines(board: Board, sent: bytes, bench: Bench, seconds: float = 1.0) -> list[bytes]:
    """The answers to a line that is sent, rows apart."""
    before = len(board.said)
    board.send(sent + b"\n")
    bench.run(seconds)
    return [one for one in board.said[before:].split(b"\n") if one and not one.startswith(b"time_s")]


@pytest.mark.parametrize("port", ALL)
def test_line_keys_memory_and_guards_of_a_running_board(port: Port, tmp_path: Path) -> None:
    cabinet = DESIGNS["hatching_cabinet"]()
    program, part = ported.built(sources_of(cabinet, port, WITH_ALL), port, tmp_path)
    driver = board_avr.driver_built(tmp_path) if port.name == "avr" else None
    with ported.powered(cabinet, program, port, part, driver) as board:
        bench = Bench(cabinet, board, 36.5)
        assert 0.1 < bench.run(15.0).levels.mean() < 0.9
        assert board.said.startswith(b"hello link=1 name=Hatching_cabinet")
        greeting, first_row = board.said.split(b"\n")[:2]
        assert greeting.endswith(b"keeps=1 panel=16 *" + greeting[-4:])
        assert b"measured_celsius=36." in first_row
        assert lines(board, b"set setpoint_celsius 36", bench)[0].startswith(b"ok set")
        refusal = lines(board, b"set nothing 1", bench)[0]  # long, and whole
        assert refusal.startswith(b"err set takes KEY VALUE")
        assert b"output_high" in refusal
        assert lines(board, b"keep", bench)[0].startswith(b"ok keep")
        board.restart()
        bench.run(3.0)
        assert board.resets == 1
        assert b"setpoint_celsius=36 " in lines(board, b"get setpoint_celsius", bench)[0]
        board.press("set")
        bench.run(2.5)
        board.press()
        assert bench.run(2.0).levels.max() == 0.0  # off at the front
        assert lines(board, b"auto", bench)[0].startswith(b"err")
        assert lines(board, b"undo front off", bench)[0].startswith(b"ok")
        assert lines(board, b"hand 1", bench)[0].startswith(b"ok")
        assert bench.run(12.0).levels[-20:].max() == 1.0
        bench.wiring = OPEN
        bench.run(0.6)
        assert bench.run(2.0).levels.max() == 0.0
        assert b"measured_celsius=nan" in board.said.split(b"\n")[-2]
        assert board.resets == 1


SLIPS = {
    "pin upside down": ("hatching_cabinet", "_board.c", "if (high)", "if (!high)", "chip_set_pin(0u, high)", "chip_set_pin(0u, !high)"),
    "pins never set": ("hatching_cabinet", "_main.c", "    set_pins(&pins);\n", "", "", ""),
    "extra bits not shifted away": ("hatching_cabinet", "_board.c", "sum >> 2", "sum", "return chip_converted(channel)", "return (uint16_t)(4u * chip_converted(channel))"),
    "another channel": ("hatching_cabinet", "_board.c", "converted(0u)", "converted(1u)", "converted(0u)", "converted(1u)"),
    "demand not handed over": ("hatching_cabinet", "_main.c", "    shown = next;\n", "", "", ""),
    "watchdog not fed": ("hatching_cabinet", "_main.c", "    feed_watchdog();\n", "", "", ""),
    "interrupts not on": ("hatching_cabinet", "_board.c", "    TIMSK0 = 1u << OCIE0A;\n", "", "    chip_start_tick(", "    (void)("),
    "supply never on": ("radio_hut_fans", "_main.c", "set_supply(t_supply_on(&thermostat))", "set_supply(false)", "", ""),
    "compare never set": ("radio_hut_fans", "_board.c", "    TCCR1A |= 1u << COM1A1;\n", "", "    CHIP_PWM0_COMPARE = counts;\n", "    (void)counts;\n"),
    "button not read": ("knob and button, active low", "_board.c", "return (IN_PINS & (1u << 5)) == 0u", "return false", "return !chip_pin_is_high(11u)", "return false"),
    "time three times as slow": ("foam_cutter", "_board.c", "10000u", "30000u", "10000u *", "30000u *"),
}  # fmt: skip


@pytest.mark.parametrize("port", ALL)
@pytest.mark.parametrize("slip", SLIPS)
def test_a_slip_in_the_board_is_noticed(port: Port, slip: str) -> None:
    name, file, *of_each = SLIPS[slip]
    what, becomes = of_each[2:] if port.name == "m0plus" and of_each[2] else of_each[:2]
    sources = sources_of(DESIGNS[name](), port)
    file = f"{port.name}/t{file}"
    assert what in sources.files[file]
    sources.files[file] = sources.files[file].replace(what, becomes)
    sources.files[f"{port.name}/Makefile"] = sources.files[f"{port.name}/Makefile"].replace("-Wall -Wextra", "-w")
    assert ported.data(DESIGNS[name](), sources, port)["problems"]


@pytest.mark.parametrize("port", ALL)
def test_what_does_not_fit_is_refused_by_the_linker_and_what_nearly_does_is_warned_of(
    port: Port, tmp_path: Path
) -> None:
    sources = sources_of(DESIGNS["hatching_cabinet"](), port)
    program, _ = ported.built(sources, port, tmp_path)
    flash = ported.sizes.of_file(program).flash_bytes
    program.unlink()
    if port.name == "m0plus":
        script = sources.files["m0plus/chip.ld"]
        sources.files["m0plus/chip.ld"] = script.replace("LENGTH = 0x10000", f"LENGTH = {flash // 2}")
        with pytest.raises(FirmwareError, match="does not fit a made-up chip"):
            ported.built(sources, port, tmp_path)
        return
    for room, code, words in ((flash // 2, 2, "is too small"), (flash * 20 // 19, 0, "of the flash is taken")):
        command = ["make", "-B", "-C", str(program.parent), f"FLASH={room}"]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        assert done.returncode == code
        assert words in done.stdout + done.stderr


REFUSED = {
    "probe.adc.oversampling": ("avr", made, {"law": 'kind = "on_off"\nperiod_s = 0.5', "probe": NTC % (13, 128)}),
    "drive.timer_clock_hz": ("avr", made, {"drive": 'kind = "pwm"\nfrequency_hz = 25000\ntimer_clock_hz = 48e6'}),
    "second_drive": ("avr", made, {
        "law": 'kind = "pid"\naction = "heat_cool"', "drive": 'kind = "pwm"\nfrequency_hz = 1000',
        "second_drive": 'kind = "pwm"\nfrequency_hz = 2000',
    }),
    "drive": ("avr", made, {"law": 'kind = "stages"\nstages = [{ on_offset_celsius = -1 }, { on_offset_celsius = -2 }, { on_offset_celsius = -3 }]', "drive": 'kind = "linear"'}),
}  # fmt: skip


@pytest.mark.parametrize("where", REFUSED)
def test_what_a_chip_cannot_do_is_said(where: str) -> None:
    name, make, blocks = REFUSED[where]
    with pytest.raises(FirmwareError) as told:
        sources_of(make(**{"load": LOAD, **blocks}), PORTS[name])
    assert str(told.value).startswith(f"{where}: ")
    assert "an AVR" in str(told.value) or "8-bit AVR" in str(told.value)
