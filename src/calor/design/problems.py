"""From a failed validation to problems a person can act on: which key, which rule, what was received."""

from __future__ import annotations

import difflib
from typing import Any, NamedTuple, get_args

from pydantic import BaseModel, ValidationError
from pydantic.fields import FieldInfo

from calor.design.model import BLOCK_KINDS, Design
from calor.errors import Problem, shown
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
    model, path, kinds = _place(location)
    where = ".".join(path) or "design"
    field = _field_at(location, model)
    known = _known_keys(location)
    if kind == "extra_forbidden":
        key = str(location[-1])
        close = difflib.get_close_matches(key, known, 1, 0.6)
        hint = f"did you mean {close[0]}?" if close else "known here: " + ", ".join(known)
        return Problem(where, f"unknown key; {hint}", received)
    if kind == "too_long" or (kind == "missing" and isinstance(location[-1], int)):
        return Problem(where, "has too many or too few numbers in it; the file's reference says how many", received)
    if kind == "missing":
        return Problem(where, _missing(location))
    if kind in ("union_tag_not_found", "union_tag_invalid"):
        tags = ", ".join(kinds)
        tag = shown(detail["input"].get("kind")) if isinstance(detail["input"], dict) else received
        return Problem(f"{where}.kind", f"must be one of {tags}", tag if kind == "union_tag_invalid" else "")
    if kind == "value_error":
        return Problem(where, str(detail["ctx"]["error"]))
    if kind == "literal_error":
        return Problem(where, f"must be {detail['ctx']['expected'].replace(chr(39), chr(34))}", received)
    if kind.startswith("date_"):
        return Problem(where, "must be a date without quotes, as in 2026-11-02", received)
    if kind == "bool_type":
        return Problem(where, "must be true or false", received)
    if kind in ("model_type", "model_attributes_type", "dict_type"):
        return Problem(where, f"must be a table, [{where}] with keys of its own", received)
    if field is not None and quantity_of(field):
        return Problem(where, _range_rule(field), received)
    text = {
        "too_short": "needs one entry at least",
        "tuple_type": "must be a list in square brackets",
        "string_type": "must be text in quotes",
        "bool_type": "must be true or false",
    }
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


class _Place(NamedTuple):
    """What is at a location: the model that holds the key or is the table, its path, the kinds to choose from."""

    model: type[BaseModel] | None
    path: list[str]
    kinds: dict[str, type[BaseModel]]


def _models_in(annotation: Any) -> list[type[BaseModel]]:
    """The models that a field's annotation may hold, through unions, lists and annotations."""
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [model for part in get_args(annotation) for model in _models_in(part)]


def _place(location: Location) -> _Place:
    model: type[BaseModel] | None = Design
    path: list[str] = []
    kinds: dict[str, type[BaseModel]] = {}
    for part in location:
        if isinstance(part, int):
            path[-1] += f"[{part + 1}]"
            continue
        if part in kinds:
            model, kinds = kinds[part], {}
            continue
        path.append(part)
        field = model.model_fields.get(part) if model is not None else None
        inside = _models_in(field.annotation) if field is not None else []
        if len(inside) == 1:
            model, kinds = inside[0], {}
        elif inside:
            model, kinds = None, {str(one.model_fields["kind"].default): one for one in inside}
    return _Place(model, path, kinds)


def _field_at(location: Location, model: type[BaseModel] | None) -> FieldInfo | None:
    return model.model_fields.get(str(location[-1])) if model is not None and location else None


def _known_keys(location: Location) -> list[str]:
    return list((_place(location[:-1]).model or Design).model_fields)
