"""entry_points.txt, and the launch scripts that installers make from it.

Entry points specification, https://packaging.python.org/en/latest/specifications/entry-points/
"""

from __future__ import annotations

import configparser
import re

from msgspec import Struct

__all__ = ["Script", "is_launch_script", "scripts"]

_REFERENCE = re.compile(r"^\s*(?P<module>[\w.]+)\s*(?::\s*(?P<attribute>[\w.]+))?\s*(\[.*\])?\s*$")
_LAUNCH_SCRIPT_BYTES = 4096


class Script(Struct, frozen=True):
    """A command that a distribution declares: call `attribute` of `module`."""

    name: str
    module: str
    attribute: str


def scripts(text: str) -> list[Script]:
    """The commands (console and graphical) that an entry_points.txt declares; what is malformed is passed over."""
    parser = configparser.ConfigParser(delimiters=("=",), interpolation=None, strict=False)
    parser.optionxform = str  # type: ignore[method-assign,assignment]
    try:
        parser.read_string(text)
    except configparser.Error:
        return []
    found = {}
    for group in ("console_scripts", "gui_scripts"):
        if not parser.has_section(group):
            continue
        for name, reference in parser.items(group):
            matched = _REFERENCE.match(reference)
            # A name is a file name in bin/: it must not lead anywhere else.
            if matched and matched["attribute"] and "/" not in name and name not in ("", ".", ".."):
                found[name] = Script(name, matched["module"], matched["attribute"])
    return [found[name] for name in sorted(found)]


def is_launch_script(data: bytes, declared: list[Script]) -> bool:
    """Whether a file is the launch script of one of the declared commands, whatever installer made it.

    They differ in wording, but each is short, imports the declared object and calls it.
    """
    if len(data) > _LAUNCH_SCRIPT_BYTES or not data.startswith(b"#!"):
        return False
    text = data.decode("utf-8", "replace")
    for script in declared:
        first = script.attribute.partition(".")[0]
        imports = re.search(rf"^\s*from {re.escape(script.module)} import {re.escape(first)}\b", text, re.MULTILINE)
        if imports and f"{script.attribute}()" in text:
            return True
    return False
