"""The settings compiled in: a constant each in place of a struct that is looked at while it runs.

The generated C is read as the few forms it is written in, after the choice of float or fixed point. `settings->x`
becomes PREFIX_X, a #define in the state's header; a list becomes a table there, in program memory where that is apart.
What only serves changing settings goes.
"""

from __future__ import annotations

import re

_VALUE = re.compile(r"^    \.(\w+) = (.*?),(?: /\*.*\*/)?$", re.MULTILINE)
_MEMBER = re.compile(r"^    (\w+) (\w+)(?:\[(\d+)\])?; *(/\*.*?\*/)?$", re.MULTILINE)


def compiled_in(files: dict[str, str], prefix: str) -> dict[str, str]:
    """Files of a thermostat, by name, with its settings compiled in."""
    defaults = f"const {prefix}_settings {prefix}_defaults = {{\n"
    main, state = f"{prefix}_thermostat.c", f"{prefix}_state.h"
    laid_down = _between(files[main], defaults, "\n};\n\n")
    begin = files[state].rindex("typedef struct {\n", 0, files[state].index(f"}} {prefix}_settings;"))
    members = _between(files[state][begin:], "typedef struct {\n", f"}} {prefix}_settings;\n")
    declared = (
        f"typedef struct {{\n{members}}} {prefix}_settings;\n\nextern const {prefix}_settings {prefix}_defaults;\n"
    )
    values = dict(_VALUE.findall(laid_down))
    constants = _constants(members, values, prefix)
    own = {
        main: files[main].replace(f"{defaults}{laid_down}\n}};\n\n", ""),
        state: files[state].replace(declared, constants).replace(f"    const {prefix}_settings *settings;\n", ""),
    }
    return {name: _without_struct(text, prefix) for name, text in (files | own).items()}


def as_called(text: str, prefix: str) -> str:
    """C that calls a thermostat whose settings are compiled in: it is begun without any."""
    return text.replace(f", &{prefix}_defaults)", ")").replace(
        f"{prefix}_defaults.setpoint_celsius", _name(prefix, "setpoint_celsius")
    )


def _between(text: str, begin: str, end: str) -> str:
    at = text.index(begin) + len(begin)
    return text[at : text.index(end, at)]


def _name(prefix: str, setting: str) -> str:
    return f"{prefix}_{setting}".upper()


def _constants(members: str, values: dict[str, str], prefix: str) -> str:
    """What stands in the header in place of the struct, with the struct's comments."""
    lines = ["/* The settings, compiled in. */"]
    for kind, name, count, comment in _MEMBER.findall(members):
        value, said = values[name], f" {comment}" if comment else ""
        if count:
            lines.append(f"static const {kind} {_name(prefix, name)}[{count}] {prefix.upper()}_FLASH = {value};{said}")
        else:
            lines.append(f"#define {_name(prefix, name)} {f'({value})' if value.startswith('-') else value}{said}")
    return "\n".join(lines) + "\n"


def _without_struct(text: str, prefix: str) -> str:
    """A file that looks at constants in place of settings that are handed about."""
    handed = f"const {prefix}_settings *settings"
    text = text.replace(f"    {handed} = state->settings;\n", "").replace("    state->settings = settings;\n", "")
    text = text.replace(f", {handed}", "").replace(f"{handed}, ", "")
    text = (
        text.replace("(state->settings, ", "(").replace("(settings, ", "(").replace("state->settings->", "settings->")
    )
    text = re.sub(
        r"\bsettings->(\w+)\[([^\[\]]*)\]",
        lambda found: f"{prefix.upper()}_NUMBER({_name(prefix, found[1])}[{found[2]}])",
        text,
    )
    return re.sub(r"\bsettings->(\w+)", lambda found: _name(prefix, found[1]), text)
