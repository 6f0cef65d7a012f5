"""`calor tune`: every rule's gains side by side, run on a trial and judged, and a search that beats them."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from calor.cli.common import AS_JSON, DESIGN_FILE, chosen_trial, open_design, print_json
from calor.cli.exit_codes import FAIL, PASS
from calor.cli.outputs import FORCE, is_nothing_of_ours, may_write
from calor.errors import CalorError

if TYPE_CHECKING:
    from calor.tune.table import Setting

HELP = "Gains by every rule, each run on a trial: exit 0 where some keep all limits, 1 where none do, 2 bad input."
METHODS = ("model", "step", "relay")


def command(
    file: Path = DESIGN_FILE,
    trial: str = typer.Option(None, "--trial", metavar="NAME", help="Which trial; the first where left out."),
    method: str = typer.Option("model", "--method", metavar="|".join(METHODS), help="What is found out, and how."),
    rule: list[str] = typer.Option(
        ["all"], "--rule", metavar="NAME|all", help="Which rule, or predictive; again for more."
    ),
    search: bool = typer.Option(False, "--search", help="Search for less error on all trials, inside their limits."),
    ms: float = typer.Option(
        1.6, "--ms", metavar="N", help="The greatest Ms of the search and the predictive law, 1.1 to 10."
    ),
    seed: int = typer.Option(1, "--seed", metavar="N", help="With --search: where it begins."),
    swing: float = typer.Option(None, "--swing", metavar="CELSIUS", help="How far a test may swing; four bands."),
    log: Path = typer.Option(None, "--from", metavar="LOG.csv", help="Take the model from a recorded run."),
    ambient: str = typer.Option("auto", "--ambient", metavar="T|fit|start", help="With --from: the ambient."),
    out: Path = typer.Option(None, "--out", metavar="DESIGN", help="Write the design with the best gains."),
    sets: str = typer.Option(None, "--sets", metavar="T,T,…", help="Gain sets: gains at several setpoints, °C."),
    force: bool = FORCE,
    as_json: bool = AS_JSON,
) -> int:
    from calor.cli.progress import shown_parts, shown_share
    from calor.design.file import files_of
    from calor.tune import report, spread, table
    from calor.tune.choices import choices, data_of, what_of
    from calor.tune.known import known_by
    from calor.tune.predictive import refusal, row_of
    from calor.tune.rules import BY_NAME
    from calor.tune.search import searched

    if method not in METHODS:
        raise CalorError("calor tune: --method", f"takes {', '.join(METHODS)}", repr(method))
    for name in rule:
        if name not in ("all", table.PREDICTIVE) and name not in BY_NAME:
            names = ", ".join((*BY_NAME, table.PREDICTIVE))
            raise CalorError("calor tune: --rule", f"takes all, or one of {names}", repr(name))
    if not 1.1 <= ms <= 10.0:
        raise CalorError("calor tune: --ms", "takes a number from 1.1 to 10", f"{ms:g}")
    if swing is not None and not 0.0 < swing <= 1000.0:
        raise CalorError("calor tune: --swing", "takes a number of °C above 0", f"{swing:g}")
    if out is not None and out.suffix.lower() != ".toml":
        raise CalorError("calor tune: --out", "writes a design, and takes the name of a .toml file", str(out))
    may_write("calor tune: --out", out, (log, *(() if force else (file,))), force, is_nothing_of_ours)
    design = open_design(file)
    may_write("calor tune: --out", out, files_of(design), force, is_nothing_of_ours)
    chosen = chosen_trial(design, file, trial)
    places = [] if sets is None else _places(sets)
    with shown_parts("tuning") as goes_on:
        goes_on("a model of the load" if method == "model" else f"{method} test")
        known: Any = _from_log(design, log, ambient) if log is not None else known_by(design, method, swing)
    names_of = () if "all" in rule else tuple(rule)
    asks_predictive = bool(names_of) and table.PREDICTIVE in names_of
    every = [] if names_of == (table.PREDICTIVE,) else table.ruled(known.model, known.second, known.limit, names_of)
    with shown_parts("tuning") as goes_on:
        goes_on("predictive law")
        by_model = row_of(design, (chosen,), known, ms) if asks_predictive or not names_of else None
    if asks_predictive and by_model is None:
        refused = refusal(design)
        if refused:
            raise CalorError("calor tune: --rule predictive", refused, "", "take another rule")
        raise CalorError(
            "calor tune: --rule predictive", "needs the model of a load that settles, and this tells none", "",
            "take another rule, or another method",
        )  # fmt: skip
    if not every and by_model is None:
        wanted = "" if "all" in rule else f" ({', '.join(rule)})"
        raise CalorError(
            "calor tune",
            f"no rule goes with what the {known.experiment.method} tells{wanted}",
            "",
            "take another method, or --rule all",
        )
    with shown_parts("tuning") as goes_on:
        rows = table.table(design, (chosen,), known.process, every, lambda row: goes_on(f"tried: {row.title}"))
    found = None
    if search and not any(row.setting.law is None for row in rows):
        raise CalorError(
            "calor tune: --search", "begins from a rule's gains, and there are none", "", "take --rule all"
        )
    if search:
        with shown_share("searching") as show:

            def watch(share: float, best: Setting) -> None:
                del best
                show(share)

            found = searched(design, known.process, rows, ms, seed, watch=watch)
    row = by_model if asks_predictive and len(names_of) == 1 else report.best(rows, found)
    with shown_parts("tuning") as goes_on:
        goes_on("gain sets")
        at_places = _sets(design, places, rule, rows) if places else []
    if out is not None and at_places:
        report.write_sets(design, at_places, out, file.read_text(encoding="utf-8"))
    elif out is not None and row is not None:
        report.write_design(design, row, out, file.read_text(encoding="utf-8"))
    with shown_parts("tuning") as goes_on:
        goes_on("other loads, windows and spreads")
        best = None if row is None else spread.spread(design, chosen, row.setting)
        around = choices(design, chosen) if what_of(design) else None
    data = {"design": design.name, "trial": chosen.name} | report.data(known, rows, found, by_model)
    data |= report.switching_data(design, known)
    data["spread"] = None if best is None or row is None else {
        "rule": row.name, "title": row.title, "loads": [one._asdict() for one in best],
        "pass": all(one.passes for one in best),
    }  # fmt: skip
    if around is not None:
        data["choices"] = [data_of(one) for one in around]
    if places:
        data["gain_sets"] = [report.set_data(one) for one in at_places]
    if as_json:
        print_json(data)
    else:
        _print(data, None if row is None or out is None else (row.title, out))
    good = any(item["pass"] is not False for item in data["rules"]) or (found is not None and found.row.passes)
    return PASS if good or (asks_predictive and by_model is not None and by_model.passes) else FAIL


def _places(text: str) -> list[float]:
    """Setpoints as they were typed, °C. Raises CalorError."""
    try:
        return [float(part) for part in text.replace(";", ",").split(",") if part.strip()]
    except ValueError:
        raise CalorError("calor tune: --sets", "takes setpoints in °C with commas between them", repr(text)) from None


def _sets(design: Any, places: list[float], rule: list[str], rows: list[Any]) -> list[Any]:
    """Gain sets by the rule that was named, else by the one that is best at the design's own setpoint."""
    from calor.tune import gain_sets, report

    named = [name for name in rule if name != "all"]
    if len(named) > 1:
        raise CalorError("calor tune: --sets", "takes one --rule for all sets", ", ".join(named))
    best = report.best(rows, None)
    if not named and best is None:
        raise CalorError("calor tune: --sets", "no rule goes with the load", "", "name one by --rule")
    return gain_sets.found_at(design, places, named[0] if named else best.name)  # type: ignore[union-attr]


def _from_log(design: Any, log: Path, ambient: str) -> Any:
    from calor.tune.known import known_from_log

    around: str | float = ambient
    if ambient not in ("auto", "fit", "start"):
        with contextlib.suppress(ValueError):
            around = float(ambient)
        if not isinstance(around, float):
            raise CalorError("calor tune: --ambient", "takes a temperature in °C, fit, or start", repr(ambient))
    return known_from_log(design, log, around)


def _print(data: dict[str, Any], written: tuple[str, Path] | None) -> None:

    from calor.terminal import PlainConsole, simple_table

    console = PlainConsole()
    console.print(f"{data['design']}: {data['trial']}")
    for line in _said(data):
        console.print(line)
    rows = simple_table("gains", "gain /°C", "Ti s", "Td s", "overshoot", "in band", "IAE", "Ms", "margins", "verdict")
    every = sorted(
        data["rules"],
        key=lambda row: (row["rule"] != "present", not row["pass"], row["metrics"]["iae_celsius_s"] or 0.0),
    )
    apart = [data[key] for key in ("predictive", "search") if data.get(key)]
    for row in (*every, *apart):
        metrics = row["metrics"]
        rows.add_row(
            row["title"], f"{row['gain_per_celsius']:.4g}", f"{row['integral_time_s']:.4g}",
            f"{row['derivative_time_s']:.3g}", _figure(metrics["overshoot_celsius"], ".2f"),
            _figure(metrics["time_to_band_s"], ".0f"), _figure(metrics["iae_celsius_s"], ".0f"),
            _figure(row["ms"], ".2f"),
            "unstable" if row["stable"] is False
            else f"{_figure(row['gain_margin'], '.1f')} · {_figure(row['phase_margin_deg'], '.0f')}°",
            "not judged" if row["pass"] is None else "passes" if row["pass"] else f"fails {len(row['fails'])}",
        )  # fmt: skip
    console.print(rows)
    for row in (*data["rules"], *apart):
        if row["note"]:
            console.print(f"{row['title']}: {row['note']}")
        if "law" in row:
            law = row["law"]
            console.print(
                f"{row['title']}: rise {law['rise_celsius']:g} °C, time constant {law['time_constant_s']:g} s,"
                f" dead time {law['dead_time_s']:g} s, closed loop {law['closed_loop_s']:g} s"
            )
    if "search" in data:
        found = data["search"]
        console.print(
            f"search: {found['evaluations']} settings on {len(found['trials'])} trials, Ms up to {found['ms_bound']:g}:"
            f" weight {found['setpoint_weight']:.2f}, filter {found['derivative_filter']:.1f}"
        )
    if data["on_off"]:
        console.print("on/off, centred on the setpoint, by the model:")
        cycles = simple_table("hysteresis", "swing", "period", "switchings an hour", "contact lasts")
        for row in data["on_off"]:
            days = row["contact_days"]
            lasts = f"{days:.0f} days" if days < 1000.0 else f"{days / 365.25:.0f} years"
            cycles.add_row(
                f"{row['hysteresis_celsius']:g} °C", f"{row['swing_celsius']:.2f} °C", f"{row['period_s']:.0f} s",
                f"{row['switchings_per_hour']:.0f}", lasts,
            )  # fmt: skip
        console.print(cycles)
    if data.get("choices"):
        _print_choices(data["choices"], console)
    if data["window"] is not None and data["window"]["longest_s"] is not None:
        window = data["window"]
        console.print(
            f"a window of up to {window['longest_s']:.3g} s keeps the ripple within {window['ripple_celsius']:g} °C"
        )
    if data.get("gain_sets"):
        console.print(f"gain sets by {data['gain_sets'][0]['title']}:")
        sets = simple_table("at", "gain /°C", "Ti s", "Td s", "Ms", "Ms with the first set's")
        for one in data["gain_sets"]:
            sets.add_row(
                f"{one['at_celsius']:g} °C", f"{one['gain_per_celsius']:.4g}", f"{one['integral_time_s']:.4g}",
                f"{one['derivative_time_s']:.3g}", _figure(one["ms"], ".2f"), _figure(one["ms_of_first"], ".2f"),
            )  # fmt: skip
        console.print(sets)
    if data["spread"] is not None and data["spread"]["loads"]:
        from calor.tune.spread import Other, line_of

        others = [Other(**one) for one in data["spread"]["loads"]]
        console.print(f"{data['spread']['title']}: {line_of(others)}")
    if written is not None:
        what = "these gain sets" if data.get("gain_sets") else f"the gains of {written[0]}"
        console.print(f"wrote {written[1]} with {what}")


def _print_choices(rows: list[dict[str, Any]], console: Any) -> None:
    """What there is to choose in the law, each run on the trial."""
    from calor.terminal import simple_table

    console.print("the law's own width (hysteresis, or start to full of a fan), run on the trial:")
    found = simple_table("width", "highest", "ripple", "mean output", "sound", "switchings an hour", "verdict")
    for row in rows:
        found.add_row(
            f"{row['width_celsius']:g} °C" + (" (now)" if row["factor"] == 1.0 else ""),
            f"{_figure(row['peak_celsius'], '.1f')} °C", f"{_figure(row['ripple_celsius'], '.2f')} °C",
            f"{row['mean_output'] * 100.0:.0f} %", "–" if row["noise_db"] is None else f"{row['noise_db']:.0f} dB",
            f"{row['switchings_per_hour']:.3g}",
            {True: "passes", False: "fails", None: "not judged"}[row["pass"]],
        )  # fmt: skip
    console.print(found)


def _said(data: dict[str, Any]) -> list[str]:
    """What was found out about the load, and what that took."""
    lines, model, test = [], data["model"], data["experiment"]
    if test["expected_s"] is not None:
        lines.append(
            f"{test['method']} test: expected {test['expected_s']:.0f} s and a swing of"
            f" {test['expected_swing_celsius']:.3g} °C; took {test['took_s']:.0f} s and {test['swing_celsius']:.3g} °C"
        )
    if model is not None and model["kind"] == "integrating":
        lines.append(
            f"model: integrating, {model['rate_celsius_per_s']:.4g} °C/s at full output, dead time"
            f" {model['dead_time_s']:.4g} s"
        )
    elif model is not None:
        lines.append(
            f"model: rise {model['rise_celsius']:.4g} °C, time constant {model['time_constant_s']:.4g} s, dead time"
            f" {model['dead_time_s']:.4g} s"
        )
    if test["ultimate_gain_per_celsius"] is not None:
        line = (
            f"at its limit: gain {test['ultimate_gain_per_celsius']:.4g} /°C, period {test['ultimate_period_s']:.4g} s"
        )
        if test["gain_error_share"] is not None:
            line += (
                f" by the describing function, {abs(test['gain_error_share']) * 100.0:.0f} %"
                f" {'below' if test['gain_error_share'] < 0.0 else 'above'} the true"
                f" {test['true_gain_per_celsius']:.4g}"
            )
        if test["cycles"] is not None:
            line += f", from {test['cycles']} settled cycles"
            if test["model_gain_per_celsius"] is not None:
                line += f"; {test['model_gain_per_celsius']:.4g} by the model"
            if test["note"]:
                line += f"; {test['note']}"
        lines.append(line)
    return lines


def _figure(value: float | None, form: str) -> str:
    return "–" if value is None else f"{value:{form}}"
