"""The link to panel controllers over Modbus, against the server of pymodbus on a real pseudo-terminal."""

from __future__ import annotations

import asyncio
import json
import math
import os
import select
import threading
import tty
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pymodbus.server import ModbusSerialServer
from pymodbus.simulator import DataType, SimData, SimDevice

from calor.board import modbus
from calor.board.modbus import ModbusLink
from calor.board.modbus_map import RAW, Register, blocks_of, read_map, shipped, shipped_names
from calor.board.protocol import Answer, Range
from calor.cli import invoke
from calor.errors import CalorError
from calor.log.read import read_record
from tests.core.test_board import until


class Wire:
    """Two pseudo-terminals joined as by a wire; while it is cut, nothing gets through."""

    def __init__(self) -> None:
        self._masters, slaves = [], []
        for _ in range(2):
            master, slave = os.openpty()
            tty.setraw(slave)
            self._masters.append(master)
            slaves.append(slave)
        self._slaves = slaves
        self.ends = [os.ttyname(slave) for slave in slaves]
        self.is_cut, self._is_over = False, False
        self._thread = threading.Thread(target=self._carry, daemon=True)
        self._thread.start()

    def _carry(self) -> None:
        while not self._is_over:
            for master in select.select(self._masters, [], [], 0.02)[0]:
                data = os.read(master, 4096)
                if not self.is_cut:
                    os.write(self._masters[1 - self._masters.index(master)], data)

    def close(self) -> None:
        self._is_over = True
        self._thread.join(10.0)
        for end in (*self._masters, *self._slaves):
            os.close(end)


class Controller:
    """pymodbus's server with the registers of a map, on one end of a wire."""

    def __init__(self, port: str, device: int, blocks: tuple[list[SimData], ...]) -> None:
        self._device = SimDevice(device, simdata=blocks)  # type: ignore[arg-type]
        self._port, self._ready = port, threading.Event()
        self._thread = threading.Thread(target=lambda: asyncio.run(self._serve()), daemon=True)
        self._thread.start()
        assert self._ready.wait(60.0)

    async def _serve(self) -> None:
        self._loop, self._stop = asyncio.get_running_loop(), asyncio.Event()
        server = ModbusSerialServer(self._device, port=self._port, baudrate=9600)
        await server.serve_forever(background=True)
        self._ready.set()
        await self._stop.wait()
        await server.shutdown()

    def close(self) -> None:
        self._loop.call_soon_threadsafe(self._stop.set)
        self._thread.join(10.0)


def bits(*values: bool) -> list[SimData]:
    return [SimData(0, values=list(values), datatype=DataType.BITS)]


def words(address: int, values: list[int]) -> list[SimData]:
    return [SimData(address, values=values, datatype=DataType.REGISTERS)]


ONE_LOOP = (
    bits(*[False] * 16), bits(*[False] * 16), words(0, [375, 1, 0, 420, 25]), words(0, [0xFF38, 425, 2]),
)  # fmt: skip
"""Coils, discrete inputs, holding and input registers: 37.5 °C wanted, -20 °C measured, 42.5 %."""


@pytest.fixture
def wire() -> Iterator[Wire]:
    own = Wire()
    yield own
    own.close()


@pytest.fixture
def serve(wire: Wire) -> Iterator[Callable[..., Controller]]:
    served: list[Controller] = []

    def start(device: int, blocks: tuple[list[SimData], ...]) -> Controller:
        served.append(Controller(wire.ends[0], device, blocks))
        return served[-1]

    yield start
    for one in served:
        one.close()


def test_a_controller_is_read_and_written(wire: Wire, serve: Callable[..., Controller], tmp_path: Path) -> None:
    """Signs, scales and units; limits hold before anything is sent; by hand, automatic, off; and the record."""
    serve(1, ONE_LOOP)
    own = read_map("one_loop").model_copy(update={"every_s": 0.05})
    out = tmp_path / "log.csv"
    link = ModbusLink(wire.ends[1], own, out=out, framing="8N1")
    until(lambda: link.rows >= 3)
    assert link.last is not None and link.greeting.name == "Panel controller, one loop"
    expected = {"measured_celsius": -20.0, "demand": 0.425, "alarms": 2.0, "setpoint_celsius": 37.5, "mode": 1.0}
    assert {key: pytest.approx(value) for key, value in expected.items()}.items() <= link.last.values.items()
    assert link.greeting.can["setpoint_celsius"] == Range(0.0, 400.0)
    assert link.ask("set setpoint_celsius 38.26") == Answer(True, "set setpoint_celsius=38.3")
    until(lambda: link.last.values["setpoint_celsius"] == pytest.approx(38.3))
    for command, says in (
        ("set setpoint_celsius 401", "takes 0 to 400"), ("set measured_celsius 1", "KEY one of"), ("set mode", "takes KEY"),
        ("hand 1.1", "takes 0 to 1"), ("hand", "takes a number"), ("dance", "none of its map's commands"),
        ("get nothing", "takes nothing"),
    ):  # fmt: skip
        answer = link.ask(command)
        assert not answer.ok and says in answer.text, answer
    assert link.ask("hand 0.25").ok
    until(lambda: link.last.values["mode"] == 2.0 and link.last.values["hand_output"] == pytest.approx(0.25))
    assert link.ask("get integral_time_s") == Answer(True, "get integral_time_s=420")
    assert link.off() == Answer(True, "stop outputs off")
    until(lambda: link.last.values["mode"] == 0.0)
    link.close()
    assert link.trouble is None and read_record(out).trace.steps >= 3


def test_a_controller_that_falls_silent(
    wire: Wire, serve: Callable[..., Controller], monkeypatch: pytest.MonkeyPatch
) -> None:
    """While it does not answer nothing is invented, what is asked of it is said to be unanswered, and it comes back."""
    monkeypatch.setattr(modbus, "ANSWER_S", 0.3)
    serve(1, ONE_LOOP)
    link = ModbusLink(wire.ends[1], read_map("one_loop").model_copy(update={"every_s": 0.05}), framing="8N1")
    until(lambda: link.rows >= 2)
    wire.is_cut = True
    before = link.garbage
    until(lambda: link.garbage > before)
    assert link.state.startswith("the controller does not answer")
    rows = link.rows
    with pytest.raises(CalorError, match="was not written"):
        link.ask("set setpoint_celsius 30")
    assert link.off() is None and link.rows == rows
    wire.is_cut = False
    until(lambda: link.rows > rows and link.state == "open")
    assert link.last is not None and link.last.values["setpoint_celsius"] == pytest.approx(37.5)
    link.close()


def test_floats_in_fahrenheit(wire: Wire, serve: Callable[..., Controller], capsys: pytest.CaptureFixture[str]) -> None:
    """Floats over two registers, the low word first, in °F; a device of another number does not answer; by the command."""
    little = words(100, [0, 0x42C7, 0, 0x42C8, 0xFF38, 0, 1000, 0])  # 99.5 °F, 100 °F, -2 %, 1 s (IEEE 754, by hand)
    serve(5, (bits(*[False] * 16), bits(*[False] * 16), little, words(0, [0])))
    arguments = ["link", wire.ends[1], "--modbus", "float_fahrenheit", "--framing", "8N1", "--for", "1", "--json"]
    code = invoke([*arguments, "--set", "setpoint_celsius=40"])
    data = json.loads(capsys.readouterr().out)
    assert code == 0 and data["rows"] >= 1
    assert data["last"]["measured_celsius"] == pytest.approx(37.5) and data["last"]["time_s"] == 1.0
    assert data["last"]["setpoint_celsius"] == pytest.approx(40.0) and data["last"]["demand"] == pytest.approx(-0.02)


@given(data=st.data())
def test_values_there_and_back(data: Any) -> None:
    """What a register is to say for a value says that value again, to half its step, in every unit and type."""
    kind = data.draw(st.sampled_from(["int16", "uint16", "int32", "float32"]))
    unit = data.draw(st.sampled_from(["", "celsius", "fahrenheit", "kelvin", "fraction", "percent", "s", "minutes"]))
    scale = data.draw(st.sampled_from([1.0, 0.1, 0.01, 10.0, -0.5]))
    one = Register(key="x", address=0, type=kind, unit=unit, scale=scale)
    low, high = RAW.get(kind, (-1e6, 1e6))
    raw = data.draw(st.integers(int(low), int(high)))
    value = one.value_of(float(raw))
    assert one.raw_of(value) == pytest.approx(raw, abs=1e-3 if kind == "float32" else 0.0)


GOOD = '[[register]]\nkey = "measured_celsius"\ntable = "input"\naddress = 0\n'


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "format: is missing"), ("format = 2\n" + GOOD, "format: must be less than or equal to 1"),
        ("format = 1\n", "register: is missing"), ("format = 1\nregister = []", "register: "),
        ("format = 1\nspeed = 3\n" + GOOD, "speed: unknown key"),
        ("format = 1\n" + GOOD + 'type = "int8"', 'register.1.type: must be "int16"'),
        ("format = 1\n" + GOOD.replace("0\n", "-1\n"), "register.1.address: must be greater than or equal to 0 (received -1)"),
        ("format = 1\n" + GOOD + 'access = "both"\nlow = 0\nhigh = 1', 'table "input" can only be read'),
        ("format = 1\n" + GOOD.replace("input", "coil"), 'type "bit" goes with table "coil"'),
        ("format = 1\n" + GOOD.replace("input", "holding") + 'access = "both"', "needs low and high"),
        ("format = 1\n" + GOOD.replace("input", "holding") + 'access = "both"\nlow = 0\nhigh = 1e9', "does not fit into int16"),
        ("format = 1\n" + GOOD + "scale = 0", "scale must not be 0"), ("format = 1\n" + GOOD * 2, "two registers are called"),
        ("format = 1\n" + GOOD + '[command]\nstop = [ { key = "measured_celsius", value = 0 } ]', "no register that can be written"),
        ("format = 1\n" + GOOD + '[command]\ndance = []', "command.dance"), ("format = ", "is not TOML"),
        ("format = 1\n" + GOOD.replace("measured_celsius", "Measured"), "small letters"),
    ],
)  # fmt: skip
def test_a_map_that_is_wrong_is_said_in_a_line(text: str, says: str, tmp_path: Path) -> None:
    (tmp_path / "map.toml").write_text(text)
    with pytest.raises(CalorError) as raised:
        read_map(tmp_path / "map.toml")
    assert says in str(raised.value) and "\n" not in str(raised.value), str(raised.value)


def test_the_shipped_maps(tmp_path: Path) -> None:
    """Both are read, and read at once what lies side by side; another name says which there are."""
    assert shipped() == ["float_fahrenheit", "one_loop"]
    assert shipped_names() == {name: read_map(name).name for name in shipped()}
    own = read_map("one_loop")
    assert [(one.table, one.address, one.words) for one in blocks_of(own)] == [
        ("coil", 0, 1), ("holding", 0, 5), ("input", 0, 3),
    ]  # fmt: skip
    fault = own.register_of("measured_celsius")
    assert fault is not None and math.isnan(fault.value_of(-32768.0))
    with pytest.raises(CalorError, match="one of float_fahrenheit, one_loop"):
        read_map(tmp_path / "other")
    with pytest.raises(CalorError, match="cannot be opened"):
        ModbusLink(str(tmp_path / "nothing"), own)
