"""Every construct of the subset against the same functions uncompiled, and a clear word on all that is outside it."""

from __future__ import annotations

import ctypes
import re
import shutil
import subprocess
from pathlib import Path
from typing import Any, get_args, get_type_hints

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from calor.compiled import build
from calor.compiled.annotations import Annotations
from calor.compiled.compiler import compilers
from calor.compiled.entries import STEPS, Entry
from calor.compiled.kept_states import numbers_of, size_of
from calor.compiled.library import call_of
from calor.compiled.problem import TranslationError
from calor.drive import registry as drives
from calor.law import registry as laws
from tests.compiled import steps

ENTRIES = (steps.all_of_them, steps.rows, steps.with_tuples)
WARNINGS = ("-Wall", "-Wextra", "-Wno-unused-parameter", "-Wno-unused-function", "-Wno-unused-variable", "-Werror")
CORNERS = st.sampled_from([0.0, -0.0, 1.0, -1.5, np.inf, -np.inf, np.nan, 5e-324, 1.7e308, 2.0**53])
REALS = st.lists(CORNERS | st.floats(-1e3, 1e3) | st.floats(), min_size=1, max_size=12)
WHOLES = st.integers(-(2**31), 2**31)


@pytest.fixture(
    scope="module", params=range(len(compilers())), ids=lambda number: Path(compilers()[number].command[0]).name
)
def native(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> dict[str, Any]:
    """The entries as C, by each compiler of the machine."""
    place = tmp_path_factory.mktemp("steps")
    source, library = place / "steps.c", place / "steps.so"
    source.write_text(build.translated(list(ENTRIES)), encoding="utf-8")
    build.compile_c(source, library, compilers()[request.param], WARNINGS)
    loaded = ctypes.CDLL(str(library))
    return {entry.python.__name__: call_of(loaded, Annotations(), entry) for entry in ENTRIES}


@pytest.mark.parametrize("which", range(len(steps.SCALAR)), ids=lambda number: steps.SCALAR[number].__name__)
@settings(deadline=None, max_examples=60)
@given(a=REALS, b=REALS, n=WHOLES | st.integers(-9, 9), m=WHOLES | st.integers(-9, 9))
def test_a_construct_gives_what_python_gives(
    native: dict[str, Any], which: int, a: list[float], b: list[float], n: int, m: int
) -> None:
    size = max(len(a), len(b))
    first, second = np.resize(np.array(a, float), size), np.resize(np.array(b, float), size)
    whole = [np.full(size, number, np.int64) for number in (n, m)]
    out, reference = np.zeros(size), np.zeros(size)
    native["all_of_them"](which, first, second, *whole, out)
    with np.errstate(all="ignore"):  # NumPy's numbers: a division by zero is an infinity, as in C
        for k in range(size):
            reference[k] = steps.SCALAR[which](first[k], second[k], n, m)
    assert out.tobytes() == reference.tobytes() or np.array_equal(out, reference, equal_nan=True), (out, reference)


def test_rows_tables_and_random_numbers(native: dict[str, Any]) -> None:
    """The random numbers are NumPy's own RandomState, reference: numpy.random.RandomState(seed).standard_normal."""
    found = []
    for call in (native["rows"], steps.rows.python):
        grid = np.arange(12.0).reshape(4, 3)
        rest = (np.zeros(5), np.zeros(4, np.bool_), np.arange(4), np.zeros(4, np.float32))
        found.append((call(grid, *rest, 7), grid, *rest))
    for ours, python in zip(*found, strict=True):
        assert np.array_equal(ours, python)
    drawn = found[0][1][:, 0] - np.arange(0.0, 12.0, 3.0)
    assert drawn == pytest.approx(np.random.RandomState(7).standard_normal(4), abs=1e-12)


def test_tuples_of_python_are_laid_out_as_c_has_them(native: dict[str, Any]) -> None:
    large = steps.Large(steps.Small(1.0, 2, True), steps.Small(3, 4, False), (0.5, 1.0, -2.0), (True, False), 9.0)
    arguments = (large, steps.Small(0.1, 1, True), np.bool_(True), 5)
    assert native["with_tuples"](*arguments) == steps.with_tuples.python(*arguments)
    with pytest.raises(TypeError, match=r"float64 of 2 dimensions is needed \(received float64 of 1"):
        native["rows"](np.zeros(3), np.zeros(3), np.zeros(3, bool), np.zeros(3, int), np.zeros(3, np.float32), 1)
    with pytest.raises(TypeError, match="without gaps"):
        native["rows"](
            np.zeros((4, 6))[:, ::2], np.zeros(3), np.zeros(4, bool), np.zeros(4, int), np.zeros(4, np.float32), 1
        )


@pytest.mark.parametrize("family", [laws, drives], ids=["laws", "drives"])
def test_states_lie_side_by_side_in_a_row(family: Any) -> None:
    """Each is read as it was written, tuples, truths and whole numbers of 52 bits among it, and touches no other's."""
    states = {kind: get_type_hints(kept.read)["return"] for kind, kept in family.KEPT.items()}
    row, chance, written = np.zeros(sum(size_of(state) for state in states.values())), np.random.default_rng(1), {}
    draws = {bool: lambda: bool(chance.integers(2)), int: lambda: int(chance.integers(2**52)), float: chance.normal}
    for kind, state in states.items():
        fields = get_type_hints(state).values()
        drawn = (
            tuple(draws[one]() for one in get_args(field)) if get_args(field) else draws[field]() for field in fields
        )
        written[kind] = state(*drawn)
        family.KEPT[kind].write(written[kind], row)
    assert len(states) > 1 and {kind: family.KEPT[kind].read(row) for kind in states} == written
    assert row.tolist() == [number for state in written.values() for number in numbers_of(state)]


def test_the_c_can_be_read() -> None:
    """Names, comments and brackets are those of the source; the loop's C is clean under a checker where there is one."""
    text = build.translated([steps.all_of_them])
    assert "    double total = a - (b - a) - b * (a + b) - -a;" in text
    assert "/* Branches, also within a line, and a name of int and float. */" in text
    assert "static const double tests_compiled" not in text and "const Large" not in text
    whole = build.c_text()
    assert "static const int64_t law_registry_PID = 1;" in whole and "/* one that is read" not in whole
    assert "/* what each output is switched to until the next row, at its drive's own instants */" in whole
    assert max(map(len, whole.split("\n"))) <= 140
    if shutil.which("cppcheck"):
        path = Path("/dev/stdin")
        command = [
            "cppcheck",
            "--quiet",
            "--error-exitcode=3",
            "--enable=warning,portability",
            "--language=c",
            str(path),
        ]
        assert subprocess.run(command, input=whole, text=True, check=False).returncode == 0


def a_list(a: float) -> float:
    return sum([a, a])


def a_string(a: float) -> float:
    return a if a else "none"  # type: ignore[return-value]


def untyped(a) -> float:  # type: ignore[no-untyped-def]
    return a  # type: ignore[no-any-return]


def a_try(a: float) -> float:
    try:
        return a
    except ValueError:
        return 0.0


def not_marked(a: float) -> float:
    return a_list(a)


def two_kinds(a: float) -> float:
    x = a
    x = a > 0.0  # type: ignore[assignment]
    return x  # noqa: RET504


def a_bool_as_number(a: float) -> float:
    return (a > 1.0) + a


def over_a_list(a: float) -> float:
    for x in (1.0, 2.0):
        a += x
    return a


def a_slice(a: float) -> float:
    return steps.TABLE_OF[0, 1:2]  # type: ignore[return-value]


def after_the_loop(a: float) -> float:
    for k in range(3):  # noqa: B007
        a += 1.0
    return a + k


def a_field(a: float) -> float:
    return steps.Small(a, 1, True).missing  # type: ignore[attr-defined,no-any-return]


def too_few(a: float) -> float:
    return steps.Small(a).a  # type: ignore[call-arg]


def itself(a: float) -> float:
    return itself(a - 1.0) if a > 0.0 else a


def unknown(a: float) -> float:
    return a + nowhere  # type: ignore[name-defined,no-any-return]  # noqa: F821


def in_steps_of_two(a: float) -> float:
    for _ in range(0, 9, 2):
        a += 1.0
    return a


def a_mapping(a: dict[str, float]) -> float:
    return a["x"]


@pytest.mark.parametrize(
    ("function", "what", "remedy"),
    [
        (a_list, "List is not supported|no function of the subset", "the subset has|@compiled"),
        (a_string, "float where bool is needed", "convert it"),
        (untyped, "an argument without annotation: a", "say which kind"),
        (a_try, "Try is not supported", "what the subset has"),
        (not_marked, "no function of the subset: a_list", "@compiled"),
        (two_kinds, "a name for float that is given bool", "one name for one kind"),
        (a_bool_as_number, "no number: a > 1.0", "1.0 if x else 0.0"),
        (over_a_list, "a loop over something else than range", r"range\(…\)"),
        (a_slice, "Slice is not supported|no part of the subset", "subset|end of a column"),
        (after_the_loop, "used after it", "another name"),
        (a_field, "no field 'missing'", "named tuple"),
        (too_few, "wants a, n, on", "every argument once"),
        (itself, "a step that calls itself", "use a loop"),
        (unknown, "unknown here", "arguments, local names"),
        (in_steps_of_two, "a loop in larger steps", "steps of 1 or -1"),
        (a_mapping, "no kind of value for", "declare it as float"),
    ],
    ids=lambda value: getattr(value, "__name__", None),
)
def test_what_is_outside_the_subset_is_named(function: Any, what: str, remedy: str) -> None:
    """File, line, what, and what would do."""
    STEPS.add(function) if function is itself else None
    with pytest.raises(TranslationError) as error:
        build.translated([Entry(function)])
    said = str(error.value)
    assert re.search(what, said) and re.search(remedy, said) and "docs/compiled-steps.md" in said and "\n" not in said
    if function is not a_mapping:
        file, line = re.match(r"(.*?):(\d+): ", said).groups()  # type: ignore[union-attr]
        first = function.__code__.co_firstlineno
        assert file == __file__ and first <= int(line) <= first + 5, said
