"""From a failed validation to problems a person can act on: which key, which rule, what was received."""

from __future__ import annotations

import difflib
from typing import Any

from pydantic import BaseModel, ValidationError
from pydantic.fields import FieldInfo

from calor.design.model import BLOCK_KINDS, Design
from calor.design.trial import EVENT_KINDS, Trial
from calor.errors import Problem, shown
from calor.law.guard import Alarm
from calor.sense.adc import Adc
from calor.sense.thermistor import NoFilter
from calor.settings import QUANTITY_UNIT, bounds_of, quantity_of

Location = tuple[int | str, ...]


def explain(error: ValidationError, inside: Location = ()) -> list[Problem]:
    """Every problem of a failed validation, in the order it was found.

    `inside` is the place in a design of what was validated, as in ("law", "pid"), where it is not a whole one.
    """
    details = error.errors()
    # a list whose entries are wrong is also reported as too short: the entries say it better
    return [_problem(detail, inside) for detail in details if detail["type"] != "too_short" or not detail["input"]]


def _problem(detail: Any, inside: Location) -> Problem:
    location: Location = (*inside, *detail["loc"])
    kind, received = detail["type"], shown(detail["input"])
    model, path = _model_at(location)
    where = ".".join(path) or "design"
    field = _field_at(location, model)
    known = _known_keys(location)
    if kind == "extra_forbidden":
        key = str(location[-1])
        close = difflib.get_close_matches(key, known, 1, 0.6)
        hint = f"did you mean {close[0]}?" if close else "known here: " + ", ".join(known)
        return Problem(where, f"unknown key; {hint}", received)
    if kind == "missing":
        return Problem(where, _missing(location))
    if kind in ("union_tag_not_found", "union_tag_invalid"):
        tags = ", ".join(_kinds(location))
        tag = shown(detail["input"].get("kind")) if isinstance(detail["input"], dict) else received
        return Problem(f"{where}.kind", f"must be one of {tags}", tag if kind == "union_tag_invalid" else "")
    if kind == "value_error":
        return Problem(where, str(detail["ctx"]["error"]))
    if kind == "literal_error":
        return Problem(where, f"must be {detail['ctx']['expected'].replace(chr(39), chr(34))}", received)
    if kind in ("model_type", "model_attributes_type", "dict_type"):
        return Problem(where, f"must be a table, [{where}] with keys of its own", received)
    if field is not None and quantity_of(field):
        return Problem(where, _range_rule(field), received)
    text = {"string_type": "must be text in quotes", "bool_type": "must be true or false"}
    return Problem(where, text.get(kind, str(detail["msg"]).removeprefix("Input ")), received)


def _range_rule(field: FieldInfo) -> str:
    low, high, open_low = bounds_of(field)
    whole = quantity_of(field) in ("integer", "hertz", "cycles")
    noun = "a whole number" if whole else "a number"
    unit = QUANTITY_UNIT[quantity_of(field)]
    span = f"above {low:g} and up to {high:g}" if open_low else f"from {low:g} to {high:g}"
    return f"must be {noun} {span}" + (f" {unit}" if unit else "")


def _missing(location: Location) -> str:
    name = str(location[-1])
    if len(location) == 1 and name in BLOCK_KINDS:
        kinds = list(BLOCK_KINDS[name])
        example = "celsius = 37.5" if name == "setpoint" else f'kind = "{kinds[0]}"'
        rest = f" (or {', '.join(kinds[1:])})" if kinds[1:] else ""
        return f"block is missing; add [{name}] with {example}{rest}"
    return f"is missing; add {name} = …"


def _kinds(location: Location) -> list[str]:
    return list(EVENT_KINDS) if "events" in location else list(BLOCK_KINDS.get(str(location[0]), {}))


def _model_at(location: Location) -> tuple[type[BaseModel] | None, list[str]]:
    """The model that holds the key at `location`, and the path as it is written in the file."""
    model: type[BaseModel] | None = Design
    path: list[str] = []
    for part in location:
        block = str(location[0])
        if model is Design and part in BLOCK_KINDS:
            kinds = BLOCK_KINDS[str(part)]
            model = next(iter(kinds.values())) if len(kinds) == 1 else None
        elif len(path) == 1 and part in BLOCK_KINDS.get(block, {}):
            model = BLOCK_KINDS[block][str(part)]
            continue
        elif path and path[-1].startswith("events[") and part in EVENT_KINDS:
            model = EVENT_KINDS[str(part)]
            continue
        elif isinstance(part, int):
            model = {"trial": Trial, "alarms": Alarm, "events": None}.get(path[-1], model)
            path[-1] += f"[{part + 1}]"
            continue
        elif part in ("adc", "filter"):
            model = Adc if part == "adc" else NoFilter
        elif part in ("guard", "limits"):
            annotation = Design.model_fields[str(part)].annotation
            model = annotation if isinstance(annotation, type) else None
        path.append(str(part))
    return model, path


def _field_at(location: Location, model: type[BaseModel] | None) -> FieldInfo | None:
    return model.model_fields.get(str(location[-1])) if model is not None and location else None


def _known_keys(location: Location) -> list[str]:
    model, _ = _model_at(location[:-1])
    return list((model or Design).model_fields)
