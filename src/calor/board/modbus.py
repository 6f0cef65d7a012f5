"""The link to a panel controller that speaks Modbus RTU: its registers read as rows, its commands written by its map.

The frames are pymodbus's. What a board's line answers to a command is answered here, so that whoever has a link need
not know which it is.
"""

from __future__ import annotations

import contextlib
import logging
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from calor.board.heard import GONE, Heard
from calor.board.link import opened
from calor.board.modbus_map import Block, ModbusMap, Register, blocks_of
from calor.board.protocol import Answer, Greeting, Item, Range, Row, number
from calor.errors import CalorError

AGAIN_S, ANSWER_S = 0.5, 1.0
SILENT = "the controller does not answer as its map says"


class ModbusLink(Heard):
    """An open link to a controller."""

    def __init__(
        self, port: str, own: ModbusMap, baud: int | None = None, out: Path | None = None,
        told: Callable[[Item | str], None] = lambda item: None, framing: str | None = None,
    ) -> None:  # fmt: skip
        """Open the port, at the map's speed and framing where none are given. Raises CalorError where it cannot be."""
        super().__init__(port, out, told)
        self.map, self.baud, self.framing = own, baud or own.baud, framing or own.framing
        self._unanswered = 0
        self._line = threading.RLock()
        self._client = self._opened()
        self._blocks = blocks_of(own)
        self.greeting: Greeting = self._greeting()
        self._follow(self._read)

    @property
    def garbage(self) -> int:
        """How many readings had no right answer."""
        return self._unanswered

    def _opened(self) -> Any:
        from pymodbus.client import ModbusSerialClient

        # what is the matter with a port is told by opening it, and not in lines of the library's own
        logging.getLogger("pymodbus").setLevel(logging.CRITICAL)
        opened(self.port, self.baud, self.framing).close()
        bits, parity, stop = int(self.framing[0]), self.framing[1], int(self.framing[2])
        client = ModbusSerialClient(
            self.port, baudrate=self.baud, bytesize=bits, parity=parity, stopbits=stop, timeout=ANSWER_S, retries=1
        )
        with contextlib.suppress(OSError, ValueError):
            if client.connect():
                return client
        rule = f"cannot be opened at {self.baud} bits/s, {self.framing}"
        raise CalorError(self.port, rule, "", "another framing may do, or another port: calor link --list shows them")

    def _greeting(self) -> Greeting:
        can = {
            one.key: Range(0.0 if one.low is None else one.low, 1.0 if one.high is None else one.high)
            for one in self.map.registers
            if one.access != "read"
        }
        return Greeting(self.map.name, f"Modbus, device {self.map.device}", self.map.every_s, can, True)

    # ---- reading

    def _read(self) -> None:
        self._told(self.greeting)
        due = time.monotonic()
        while not self._ended.wait(max(0.0, due - time.monotonic())):
            due = max(due + self.map.every_s, time.monotonic())
            try:
                self._row(Row(self._values()))
                if self.state != "open":
                    self._say("open")
            except _NoAnswerError as error:
                self._unanswered += 1
                if not Path(self.port).exists():
                    self._lost()
                elif self.state == "open":
                    self._say(f"{SILENT} ({error})" if str(error) else SILENT)
            except CalorError as error:  # the record cannot be written: that ends the link, and is said
                self.trouble = error
                self._say(str(error))
                return

    def _lost(self) -> None:
        """The port has gone away: try until it is back, or the link is closed."""
        self.losses += 1
        with self._line:
            self._client.close()
        self._say(GONE)
        while not self._ended.wait(AGAIN_S):
            with contextlib.suppress(CalorError), self._line:
                self._client = self._opened()
                self._say("open")
                return

    def _values(self) -> dict[str, float]:
        found: dict[str, float] = {}
        for block in self._blocks:
            found |= self._block(block)
        return {one.key: found[one.key] for one in self.map.registers if one.key in found}

    def _block(self, block: Block) -> dict[str, float]:
        """The values of a block. Raises _NoAnswerError."""
        calls = {
            "input": "read_input_registers", "holding": "read_holding_registers", "coil": "read_coils",
            "discrete": "read_discrete_inputs",
        }  # fmt: skip
        answer = self._asked(calls[block.table], block.address, count=block.words)
        found: dict[str, float] = {}
        for one in block.registers:
            at = one.address - block.address
            is_bit = one.type == "bit"
            raw = float(answer.bits[at]) if is_bit else self._number(one, answer.registers[at : at + 2])
            found[one.key] = one.value_of(raw)
        return found

    def _number(self, one: Register, registers: list[int]) -> float:
        kind = self._client.DATATYPE[one.type.upper()]
        words = registers[: kind.value[1]]
        if len(words) < kind.value[1]:
            raise _NoAnswerError
        return float(self._client.convert_from_registers(words, kind, word_order=one.word_order))

    def _asked(self, call: str, *arguments: Any, **named: Any) -> Any:
        """What the controller answers. Raises _NoAnswerError, with what it says where it refuses."""
        from pymodbus.exceptions import ModbusException

        try:
            with self._line:
                answer = getattr(self._client, call)(*arguments, device_id=self.map.device, **named)
        except (ModbusException, OSError, ValueError, TypeError) as error:
            raise _NoAnswerError(str(error)) from None
        if answer.isError():
            raise _NoAnswerError(f"it answers with exception {getattr(answer, 'exception_code', '')}")
        return answer

    # ---- sending

    def ask(self, command: str, wait_s: float | None = None) -> Answer:
        """Do what a command of the line says, and say what came of it. Raises CalorError where nothing answers."""
        del wait_s
        word, *rest = command.split()
        if word == "get":
            return self._get(rest)
        if word == "set":
            return self._set(rest)
        writes = dict(self.map.command).get(word)  # type: ignore[call-overload]
        if writes is None:
            return Answer(False, f"{word} is none of its map's commands")
        given = number(rest[0]) if rest else None
        for write in writes:
            value = given if write.value is None else write.value
            one = self.map.register_of(write.key)
            if one is None or value is None:
                return Answer(False, f"{word} takes a number")
            low, high = self._range(one)
            if not low <= value <= high:
                return Answer(False, f"{word} takes {low:g} to {high:g}")
        for write in writes:
            self._write(write.key, given if write.value is None else write.value)
        return Answer(True, f"{word} {'outputs off' if word == 'stop' else ' '.join(rest)}".strip())

    def _range(self, one: Register) -> Range:
        return Range(0.0 if one.low is None else one.low, 1.0 if one.high is None else one.high)

    def _get(self, rest: list[str]) -> Answer:
        one = self.map.register_of(rest[0]) if rest else None
        if rest and (one is None or one.access == "write"):
            return Answer(False, "get takes nothing, or a key that can be read")
        try:
            values = self._values()
        except _NoAnswerError as error:
            raise CalorError(self.port, f"the controller does not answer ({error})") from None
        kept = values if one is None else {one.key: values[one.key]}
        return Answer(True, "get " + " ".join(f"{key}={value:.9g}" for key, value in kept.items()))

    def _set(self, rest: list[str]) -> Answer:
        one = self.map.register_of(rest[0]) if len(rest) == 2 else None
        if one is None or one.access == "read":
            keys = " ".join(self._greeting().can)
            return Answer(False, f"set takes KEY VALUE; KEY one of {keys or 'none'}")
        value, (low, high) = number(rest[1]), self._range(one)
        if value is None or not low <= value <= high:
            return Answer(False, f"set {one.key} takes {low:g} to {high:g}")
        self._write(one.key, value)
        return Answer(True, f"set {one.key}={one.value_of(one.raw_of(value)):.9g}")

    def _write(self, key: str, value: float | None) -> None:
        """Write a register. Raises CalorError where the controller does not do it."""
        one = self.map.register_of(key)
        assert one is not None
        assert value is not None
        try:
            if one.type == "bit":
                self._asked("write_coil", one.address, value != 0.0)
                return
            kind = self._client.DATATYPE[one.type.upper()]
            raw = one.raw_of(value)
            words = self._client.convert_to_registers(
                raw if one.type == "float32" else int(raw), kind, word_order=one.word_order
            )
            if len(words) == 1:
                self._asked("write_register", one.address, words[0])
            else:
                self._asked("write_registers", one.address, words)
        except _NoAnswerError as error:
            raise CalorError(self.port, f"{key} was not written ({error})", f"{value:g}") from None

    def close(self) -> None:
        """End the link; what was recorded is on disk."""
        self._end(4.0 * ANSWER_S)
        with contextlib.suppress(OSError):
            self._client.close()


class _NoAnswerError(Exception):
    """Nothing came, or nothing that could be taken."""
