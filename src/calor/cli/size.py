"""`calor size`: a heater for a warm-up time, or the time for a heater."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import typer

from calor.cli.common import AS_JSON, open_design, print_json
from calor.cli.exit_codes import PASS
from calor.errors import CalorError
from calor.load import sizing
from calor.load.sizing import Sizing, Warming, heat_capacity_j_per_k, wall_w_per_k

HELP = "A heater for a warm-up time, or the time for a heater: of a design, or of a mass."
OPTIONS = {
    "material": "--material", "wall": "--wall", "area and thickness": "--area and --thickness", "loss": "--loss",
    "heater": "--watt", "warm-up time": "--time", "heat capacity": "--heat-capacity", "target": "--to",
}  # fmt: skip
"""What the core calls what is given, as options."""


def command(
    file: Path = typer.Argument(None, metavar="[FILE]", help="Design whose load is to be warmed."),
    watt: float = typer.Option(None, "--watt", help="Heater, W; of a design its own where left out."),
    time: float = typer.Option(None, "--time", metavar="S", help="Warm-up time, s."),
    mass: float = typer.Option(None, "--mass", metavar="KG", help="Mass, kg."),
    material: str = typer.Option("water", "--material", help="What it is of."),
    capacity: float = typer.Option(None, "--heat-capacity", metavar="J/K", help="In place of mass and material."),
    start: float = typer.Option(None, "--from", metavar="°C", help="Where it begins."),
    target: float = typer.Option(None, "--to", metavar="°C", help="Where it is to go."),
    ambient: float = typer.Option(
        None, "--ambient", metavar="°C", help="What it stands in; where it begins if left out."
    ),
    loss: float = typer.Option(None, "--loss", metavar="W/K", help="Heat lost for each degree above ambient."),
    wall: str = typer.Option(None, "--wall", help="In place of --loss: material, with --area and --thickness."),
    area: float = typer.Option(0.0, "--area", metavar="M2", help="Area of the wall, m²."),
    thickness: float = typer.Option(0.0, "--thickness", metavar="M", help="Thickness of the wall, m."),
    price: float = typer.Option(None, "--price-per-kwh", help="For the cost of holding."),
    as_json: bool = AS_JSON,
) -> int:
    if file is not None:
        warming, own_watt = of_design(file)
        watt = own_watt if watt is None and time is None else watt
    elif start is None or target is None or (mass is None and capacity is None):
        raise CalorError(
            "calor size",
            "give a FILE, or --mass (or --heat-capacity), --from and --to",
            "",
            "for example calor size --mass 6 --material water --from 20 --to 38 --watt 300",
        )
    else:
        warming = Warming(0.0, start, target, start, 0.0)
    if capacity is not None or mass is not None:
        heat_capacity = capacity if capacity is not None else heat_capacity_j_per_k(material, float(mass))
        warming = warming._replace(heat_capacity_j_per_k=heat_capacity)
    given = {"start_celsius": start, "target_celsius": target, "ambient_celsius": ambient}
    given["loss_w_per_k"] = wall_w_per_k(wall, area, thickness) if wall is not None else loss
    warming = warming._replace(**{key: value for key, value in given.items() if value is not None})
    by_hand = capacity is not None or mass is not None or given["loss_w_per_k"] is not None
    if file is not None and not by_hand:
        data = report_on_load(open_design(file), warming, watt, time, price)
    else:
        data = report(warming, watt, time, price)
    if as_json:
        print_json(data)
    else:
        print_text(data)
    return PASS


def of_design(path: Path) -> tuple[Warming, float]:
    """What a design's load has to be warmed by, and its heater in watts. Raises CalorError, DesignError."""
    from calor.load import registry as loads

    design = open_design(path)
    load: Any = design.load
    capacity = loads.heat_capacity_j_per_k(load)
    if capacity is not None:
        start, ambient = design.start_celsius(design.trial[0]), design.ambient_celsius(design.trial[0])
        return Warming(capacity, start, design.setpoint.celsius, ambient, load.loss_w_per_k), load.heater_watt
    raise CalorError(
        f"{path}: load.kind",
        f"a {load.kind} load knows no watts",
        f"{load.kind!r}",
        "use a lump, chamber or liquid load, or give --mass, --material, --from and --to",
    )


def report(warming: Warming, watt: float | None, time_s: float | None, price_per_kwh: float | None) -> dict[str, Any]:
    """The figures as JSON has them. Raises CalorError."""
    if (watt is None) == (time_s is None):
        raise CalorError(
            "calor size", "give either --watt (for the time) or --time (for the watts), for example --watt 300"
        )
    answer = sizing.for_watt(warming, watt) if watt is not None else sizing.for_time(warming, float(time_s or 0.0))

    def plain(value: float) -> float | None:
        return value if math.isfinite(value) else None

    def row(one: Sizing) -> dict[str, Any]:
        return {"watt": one.watt, "time_s": plain(one.time_s), "holding_watt": one.holding_watt}

    half = warming._replace(loss_w_per_k=0.5 * warming.loss_w_per_k)
    data = row(answer) | {
        "energy_wh": plain(answer.energy_wh),
        "final_celsius": plain(answer.final_celsius),
        "heat_capacity_j_per_k": warming.heat_capacity_j_per_k,
        "loss_w_per_k": warming.loss_w_per_k,
        "start_celsius": warming.start_celsius,
        "target_celsius": warming.target_celsius,
        "ambient_celsius": warming.ambient_celsius,
        "with_half_the_loss": row(sizing.for_watt(half, answer.watt)),
        "with_half_again_the_power": row(sizing.for_watt(warming, 1.5 * answer.watt)),
    }
    if price_per_kwh is not None:
        data["holding_cost_per_day"] = sizing.holding_cost(warming, price_per_kwh)
    return data


def report_on_load(
    design: Any, warming: Warming, watt: float | None, time_s: float | None, price_per_kwh: float | None
) -> dict[str, Any]:
    """The figures of a design's own load, worked out on it. Raises CalorError."""
    from calor.load import registry as loads
    from calor.loop import warm_up

    sizing.check(warming)
    if watt is not None and not watt > 0.0:
        raise CalorError("heater", "must be above 0", f"{watt:g}")
    if time_s is not None and not time_s > 0.0:
        raise CalorError("warm-up time", "must be above 0 s", f"{time_s:g}")
    place = warm_up.Place(
        warming.start_celsius, warming.target_celsius, warming.ambient_celsius, design.trial[0].humidity
    )
    own: Any = design.load
    heater = float(watt) if watt is not None else warm_up.watt_for(own, place, float(time_s or 0.0))
    if not math.isfinite(heater):
        raise CalorError("warm-up time", "no heater reaches the target in so long", f"{time_s:g} s", "give more time")

    def row(load: Any, heater_watt: float) -> dict[str, Any]:
        load = warm_up.with_watt(load, heater_watt)
        taken_s = warm_up.warm_up_s(load, place)
        holding = warm_up.holding_watt(load, place)
        return {
            "watt": heater_watt, "time_s": taken_s if math.isfinite(taken_s) else None,
            "holding_watt": holding if math.isfinite(holding) else None,
        }  # fmt: skip

    data = row(own, heater)
    final = loads.settled_celsius(warm_up.with_watt(own, heater), 1.0, place.ambient_celsius)
    half = own.model_copy(update={"loss_w_per_k": 0.5 * own.loss_w_per_k})
    data |= {
        "energy_wh": None if data["time_s"] is None else heater * data["time_s"] / 3600.0,
        "final_celsius": final if math.isfinite(final) else None,
        "heat_capacity_j_per_k": warming.heat_capacity_j_per_k,
        "loss_w_per_k": warming.loss_w_per_k,
        "start_celsius": warming.start_celsius,
        "target_celsius": warming.target_celsius,
        "ambient_celsius": warming.ambient_celsius,
        "with_half_the_loss": row(half, heater),
        "with_half_again_the_power": row(own, 1.5 * heater),
    }
    if price_per_kwh is not None and data["holding_watt"] is not None:
        data["holding_cost_per_day"] = data["holding_watt"] / 1000.0 * 24.0 * price_per_kwh
    return data


def print_text(data: dict[str, Any]) -> None:
    """The figures as text."""

    from calor.terminal import PlainConsole, simple_table
    from calor.units import format_duration

    def shown(time_s: float | None) -> str:
        return "never" if time_s is None else format_duration(time_s)

    console = PlainConsole()
    console.print(
        f"{data['heat_capacity_j_per_k']:.4g} J/K from {data['start_celsius']:g} to {data['target_celsius']:g} °C,"
        f" {data['loss_w_per_k']:.3g} W/K to {data['ambient_celsius']:g} °C"
    )
    table = simple_table("", "W", "warm-up", "W to hold")
    rows = (
        ("as asked", data),
        ("half the loss", data["with_half_the_loss"]),
        ("half again the power", data["with_half_again_the_power"]),
    )
    for name, row in rows:
        held = "–" if row["holding_watt"] is None else f"{row['holding_watt']:.4g}"
        table.add_row(name, f"{row['watt']:.4g}", shown(row["time_s"]), held)
    console.print(table)
    if data["final_celsius"] is not None:
        console.print(f"full output settles at {data['final_celsius']:.4g} °C")
    if "holding_cost_per_day" in data:
        console.print(f"holding costs {data['holding_cost_per_day']:.3g} a day")
    console.print(
        "Heater and wiring are for licensed persons and local codes; leave a margin for a cold day and a low mains, and"
        " never leave a first run alone."
    )
