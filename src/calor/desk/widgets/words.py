"""The words of the desk for the parts of a design, and the cautions that stand beside them."""

from __future__ import annotations

BLOCKS: dict[str, str] = {
    "setpoint": "Setpoint", "law": "Law", "drive": "Drive", "load": "Load", "probe": "Probe", "trial": "Trial",
}  # fmt: skip

CAUTIONS: dict[str, str] = {
    "setpoint": "Simulation is not proof of safety. Eggs, food, medicine and animals need an independent thermometer"
    " and alarm.",
    "drive": "Mains wiring is for licensed persons and local codes. Relays weld and SSRs fail shorted: fit a cut-out"
    " that shares nothing with this switch, and a fuse.",
    "probe": "A reading is only as good as its probe is mounted. Near mains use an isolated probe, wired by a licensed"
    " person to local code.",
    "load": "Keep combustibles away from the heater and never leave a first run alone. Near water, use residual-current"
    " protection.",
}


FORMS: dict[tuple[bool, bool], str] = {
    (False, False): "Float", (False, True): "Float, table", (True, False): "Fixed", (True, True): "Fixed, table",
}  # fmt: skip
"""How the generated C computes: whether in fixed point, and whether by a table."""
