"""Every field of every bench, of every demo and kind: another admissible value is taken, one just outside is said."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from typing import Any

import pytest

from calor.demo import DEMOS
from calor.design.model import BLOCK_KINDS, BLOCKS
from calor.desk.widgets.fields import ChoiceField, Field, NumbersField, TextField
from calor.desk.widgets.numbers import NumberField

Desk = Callable[..., Any]


def stilled(window: Any, monkeypatch: pytest.MonkeyPatch) -> Any:
    """A window in which no more runs are made: what is tested are the fields."""
    monkeypatch.setattr(type(window.desk.runs), "simulate", lambda self: None)
    return window


def shown(value: float) -> str:
    return f"{value:.10g}"


def another(field: NumberField) -> float:
    """Another value of a field, near the one it has and inside its range, in the unit it is shown in."""
    scale = field._scale
    low, high = scale.show(max(field.low, -1e12)), scale.show(min(field.high, 1e12))
    now = scale.show(field._value) if field._value is not None else low
    whole = field.quantity in ("integer", "hertz", "cycles")
    step = max(1.0, round(abs(now) * 0.1)) if whole else max(abs(now) * 0.1, 1e-3)
    for value in (now + step, now - step, 0.5 * (low + high)):
        if low + (1e-9 if field.open_low else 0.0) <= value <= high:
            return float(round(value)) if whole else value
    return now


def outside(field: NumberField) -> list[float]:
    """Values just outside its range."""
    scale, values = field._scale, []
    for bound, sign in ((field.low, -1.0), (field.high, 1.0)):
        if math.isfinite(bound):
            values.append(scale.show(bound) + sign * max(1.0, abs(scale.show(bound)) * 0.01))
    return values


def fields_of(window: Any) -> list[tuple[Any, ...]]:
    """The fields of the bench on show, each by where it stands among those of its key."""
    seen: dict[str, int] = {}
    places = []
    for field in window.bench.form.findChildren(Field):
        seen[field.key] = seen.get(field.key, -1) + 1
        places.append((field.key, seen[field.key]))
    return places


def field_at(window: Any, place: tuple[str, int]) -> Field | None:
    same = [field for field in window.bench.form.findChildren(Field) if field.key == place[0]]
    return same[place[1]] if place[1] < len(same) else None


def edits_of(field: Field | None) -> Iterator[tuple[str, Callable[[Any], None], bool]]:
    """(what is done, doing it to the field, whether it lies outside the range) for a field."""

    def type_in(text: str) -> Callable[[Any], None]:
        def act(number: Any) -> None:
            assert isinstance(number, NumberField)
            number.entry.setText(text)
            number.entry.textEdited.emit(text)

        return act

    def write_in(text: str) -> Callable[[Any], None]:
        def act(line: Any) -> None:
            line.entry.setText(text)
            line.entry.setModified(True)
            line.entry.editingFinished.emit()

        return act

    if isinstance(field, NumberField):
        yield "another value", type_in(shown(another(field))), False
        for value in outside(field):
            yield f"{value:g}, outside", type_in(shown(value)), True
        yield "no number", type_in("warm"), True
        yield "steps", lambda number: number._step(1), False
    elif isinstance(field, ChoiceField):
        for number in range(field.box.count()):
            yield field.box.itemText(number), lambda choice, number=number: choice.box.activated.emit(number), False  # type: ignore[misc]
    elif isinstance(field, NumbersField):
        yield "no numbers", write_in("warm"), True
        yield "numbers", write_in("1 2; 3 4" if field.key == "points" else "1 2 3"), False
    elif isinstance(field, TextField):
        yield "text", write_in("Other <b>words</b> & [signs]"), False


def edit_all(window: Any, blocks: tuple[str, ...]) -> int:
    """Edit every field of the benches of some blocks; how many edits there were."""
    document, count = window.desk.document, 0
    for block in blocks:
        window.desk.view.choose_bench(block)
        original, trial = document.design, document.trial_number
        for place in fields_of(window):
            for what, act, is_outside in list(edits_of(field_at(window, place))):
                field = field_at(window, place)
                if field is None:
                    continue
                before = document.design
                act(field)  # a mistake in it fails the test
                count += 1
                where = (document.design.name, block, place, what)
                field = field_at(window, place)
                assert not (is_outside and document.design != before), where
                if is_outside:
                    assert field is not None and field.line.text(), where
                if isinstance(field, NumberField):
                    field._leave()
                document.end_merging()
                if document.design != original:
                    document.undo_stack.clear()
                    document.take(original, trial)
                assert window.notice.isHidden() or "mistake" not in window.notice.text.text(), where
    return count


@pytest.mark.parametrize("number", range(len(DEMOS)), ids=[demo.design.stem for demo in DEMOS])
def test_every_field_of_a_demo(number: int, desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    window = stilled(desk(), monkeypatch)
    window.files.open_demo(number)
    assert edit_all(window, (*BLOCKS, "trial")) > 100


@pytest.mark.parametrize("block", BLOCKS)
def test_every_field_of_a_kind(block: str, desk: Desk, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of the starter design's block in each of its kinds, where the rest of the design lets it be one."""
    window = stilled(desk(), monkeypatch)
    window.files.new()
    document = window.desk.document
    original, had = document.design, set()
    for kind in BLOCK_KINDS[block]:
        window.desk.view.choose_bench(block)
        if document.set_kind(block, kind) is None and getattr(document.design, block).kind == kind:
            had.add(kind)
            assert edit_all(window, (block,)) > 3
        document.undo_stack.clear()
        document.take(original, 0)
    assert len(had) >= len(BLOCK_KINDS[block]) - 2, had
