"""The map of a panel controller that speaks Modbus: which register is what, in which type, scale and unit, and what can
be written. A file in TOML; docs/link.md has its keys, and two made-up ones are shipped."""

from __future__ import annotations

import math
import re
import tomllib
from pathlib import Path
from typing import Any, Literal, NamedTuple, Self

from pydantic import Field, ValidationError, model_validator

from calor.errors import CalorError, shown, unreadable
from calor.settings import Settings

FORMAT = 1
SHIPPED = Path(__file__).parent / "maps"
LARGEST_BYTES = 1_000_000
Table = Literal["input", "holding", "coil", "discrete"]
Kind = Literal["int16", "uint16", "int32", "uint32", "float32", "bit"]
Unit = Literal["", "celsius", "fahrenheit", "kelvin", "fraction", "percent", "s", "minutes"]
WORDS: dict[str, int] = {"int16": 1, "uint16": 1, "int32": 2, "uint32": 2, "float32": 2, "bit": 1}
RAW = {"int16": (-32_768, 32_767), "uint16": (0, 65_535), "int32": (-(2**31), 2**31 - 1), "uint32": (0, 2**32 - 1)}
_TO_OURS: dict[str, tuple[float, float]] = {
    "fahrenheit": (5.0 / 9.0, -160.0 / 9.0), "kelvin": (1.0, -273.15), "percent": (0.01, 0.0), "minutes": (60.0, 0.0),
}  # fmt: skip
"""What a number in a unit is in Calor's: factor and offset; °C, fractions and seconds are Calor's own."""


class Register(Settings):
    """One value of the controller."""

    key: str
    """What it is called: as in a row of the line (`measured_celsius`, `demand`), or anything else."""
    table: Table = "holding"
    address: int = Field(ge=0, le=65_535)
    """As it stands in the message, counted from 0."""
    type: Kind = "int16"
    scale: float = 1.0
    """Value for each count of the register."""
    unit: Unit = ""
    access: Literal["read", "write", "both"] = "read"
    low: float | None = None
    high: float | None = None
    """Range of what is written, in Calor's unit."""
    word_order: Literal["big", "little"] = "big"
    fault_at: int | None = None
    """The number of the register that says that its probe is at fault."""

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if not re.fullmatch(r"[a-z][a-z0-9_]{0,39}", self.key):
            raise ValueError(f"key must be small letters, digits and _, begun by a letter (received {self.key!r})")
        if (self.type == "bit") != (self.table in ("coil", "discrete")):
            raise ValueError('type "bit" goes with table "coil" or "discrete", and only with these')
        if self.access != "read" and self.table in ("input", "discrete"):
            raise ValueError(f'table "{self.table}" can only be read')
        if self.access != "read" and self.type != "bit" and (self.low is None or self.high is None):
            raise ValueError("what can be written needs low and high")
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError(f"low ({self.low:g}) is above high ({self.high:g})")
        if self.scale == 0.0:
            raise ValueError("scale must not be 0")
        for end in (self.low, self.high):
            least, most = RAW.get(self.type, (-math.inf, math.inf))
            if end is not None and self.access != "read" and not least <= self.raw_of(end) <= most:
                raise ValueError(f"{end:g} does not fit into {self.type} at this scale")
        return self

    def value_of(self, raw: float) -> float:
        """The value, in Calor's unit, of what the register says; NaN where that says a fault."""
        if self.fault_at is not None and raw == self.fault_at:
            return float("nan")
        factor, offset = _TO_OURS.get(self.unit, (1.0, 0.0))
        return factor * raw * self.scale + offset

    def raw_of(self, value: float) -> float:
        """What the register is to say for a value in Calor's unit."""
        factor, offset = _TO_OURS.get(self.unit, (1.0, 0.0))
        raw = (value - offset) / factor / self.scale
        return raw if self.type == "float32" else float(round(raw))


class Write(Settings):
    """One register that a command writes; without a value it is what the command was given."""

    key: str
    value: float | None = None


class ModbusMap(Settings):
    """A controller's map."""

    format: int = Field(ge=1, le=FORMAT)
    name: str = "Panel controller"
    device: int = Field(default=1, ge=1, le=247)
    baud: int = Field(default=9600, ge=300, le=4_000_000)
    framing: Literal["8N1", "8E1", "8O1", "8N2", "7E1", "7O1"] = "8N1"
    every_s: float = Field(default=1.0, ge=0.02, le=3600.0)
    """Time from one reading of all to the next."""
    registers: list[Register] = Field(alias="register", min_length=1, max_length=200)
    command: dict[Literal["hand", "auto", "tune", "stop"], list[Write]] = Field(default_factory=dict)
    """What the commands of the line write."""

    @model_validator(mode="after")
    def _keys_are_known(self) -> Self:
        keys = [one.key for one in self.registers]
        twice = sorted({key for key in keys if keys.count(key) > 1})
        if twice:
            raise ValueError(f"two registers are called {twice[0]}")
        writable = {one.key for one in self.registers if one.access != "read"}
        for name, writes in self.command.items():
            for write in writes:
                if write.key not in writable:
                    raise ValueError(f"command {name} writes {write.key}, which is no register that can be written")
        if not any(one.access != "write" for one in self.registers):
            raise ValueError("no register can be read")
        return self

    def register_of(self, key: str) -> Register | None:
        """The register of a key; None where there is none."""
        return next((one for one in self.registers if one.key == key), None)


class Block(NamedTuple):
    """Registers that are read at once: their table, where they begin, and how many."""

    table: Table
    address: int
    words: int
    registers: tuple[Register, ...]


MOST_AT_ONCE = 100


def blocks_of(own: ModbusMap) -> list[Block]:
    """The readable registers as what is read at once: those that follow upon one another in a table."""
    blocks: list[Block] = []
    readable = [one for one in own.registers if one.access != "write"]
    for one in sorted(readable, key=lambda one: (one.table, one.address)):
        last, end = blocks[-1] if blocks else None, one.address + WORDS[one.type]
        if last is not None and last.table == one.table and one.address <= last.address + last.words:
            words = max(last.words, end - last.address)
            if words <= MOST_AT_ONCE:
                blocks[-1] = last._replace(words=words, registers=(*last.registers, one))
                continue
        blocks.append(Block(one.table, one.address, WORDS[one.type], (one,)))
    return blocks


def shipped() -> list[str]:
    """The names of the maps that are shipped."""
    return sorted(path.stem for path in SHIPPED.glob("*.toml"))


def shipped_names() -> dict[str, str]:
    """What each shipped map is called in its file, by the name it is asked for by."""
    return {
        name: str(tomllib.loads((SHIPPED / f"{name}.toml").read_text(encoding="utf-8"))["name"]) for name in shipped()
    }


def read_map(name: str | Path) -> ModbusMap:
    """A map by its file, or by the name of one that is shipped. Raises CalorError with the first thing wrong."""
    path = Path(name)
    if not path.exists() and str(name) in shipped():
        path = SHIPPED / f"{name}.toml"
    wanted = f"a map, or one of {', '.join(shipped())}"
    try:
        with path.open("rb") as stream:
            raw = stream.read(LARGEST_BYTES + 1)
    except OSError as error:
        raise unreadable(CalorError, path, error, wanted) from None
    if len(raw) > LARGEST_BYTES:
        raise CalorError(path, "is far too large for a map", "", f"give the path of {wanted}")
    try:
        data = tomllib.loads(raw.decode("utf-8-sig"))
    except (ValueError, RecursionError) as error:
        raise CalorError(path, f"is not TOML: {(str(error).splitlines() or ['nested too deeply'])[0]}") from None
    try:
        return ModbusMap.model_validate(data)
    except ValidationError as error:
        raise _first(path, error) from None


def _first(path: Path, error: ValidationError) -> CalorError:
    detail: Any = error.errors()[0]
    place = ".".join(str(part + 1) if isinstance(part, int) else part for part in detail["loc"])
    rules = {
        "extra_forbidden": "unknown key; docs/link.md has those of a map",
        "missing": "is missing",
        "literal_error": f"must be {detail.get('ctx', {}).get('expected', '')}".replace("'", '"'),
        "value_error": str(detail.get("ctx", {}).get("error", "")),
    }
    rule = rules.get(detail["type"], str(detail["msg"]).replace("Input should be", "must be"))
    has_value = detail["type"] not in ("missing", "value_error")
    received = shown(detail["input"]) if has_value else ""
    return CalorError(path, f"{place}: {rule}" if place else rule, received)
