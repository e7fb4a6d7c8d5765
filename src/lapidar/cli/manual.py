"""The manual page, made from the same texts as the help, in the form of man(7)."""

from __future__ import annotations

import argparse
import importlib
import re
from collections.abc import Iterator

from lapidar._version import VERSION
from lapidar.cli import main

__all__ = ["render"]


def render() -> str:
    """The page, for section 1."""
    return "\n".join(_page()) + "\n"


def _page() -> Iterator[str]:
    yield f'.TH LAPIDAR 1 "" "lapidar {VERSION}" "User Commands"'
    yield from (".SH NAME", "lapidar \\- capture, keep and restore the environment of an analysis")
    yield from (".SH SYNOPSIS", ".B lapidar", "[\\fIOPTION\\fR ...] \\fICOMMAND\\fR [\\fIARGUMENT\\fR ...]")
    parser = main.build_parser(None)
    yield ".SH DESCRIPTION"
    yield from _text(parser.description or "")
    yield ".SH OPTIONS OF EVERY COMMAND"
    yield from _options(parser, ())
    shared = {name for action in _actions(parser) for name in action.option_strings}
    yield ".SH COMMANDS"
    for name in main.COMMANDS:
        module = importlib.import_module(f"lapidar.cli.{name}")
        own = argparse.ArgumentParser(prog=f"lapidar {name}", add_help=False)
        module.add_arguments(own)
        yield f'.SS "{_escaped(" ".join(own.format_usage().removeprefix("usage: ").split()))}"'
        yield from _text(module.DESCRIPTION)
        yield from _options(own, shared)
        yield from _verbatim(module.EXAMPLES)
    yield ".SH EXAMPLES AND EXIT CODES"
    yield from _verbatim(parser.epilog or "")


def _actions(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    for action in parser._actions:
        if action.help and not isinstance(action, argparse._SubParsersAction):
            yield action


def _options(parser: argparse.ArgumentParser, without: object) -> Iterator[str]:
    for action in _actions(parser):
        if isinstance(without, set) and without.intersection(action.option_strings):
            continue
        value = str(action.metavar or (action.dest.upper() if action.nargs != 0 else ""))
        names = ", ".join(f"\\fB{_escaped(name)}\\fR" for name in action.option_strings)
        shown = f"{names} \\fI{_escaped(value)}\\fR" if value and action.nargs != 0 else names
        yield from (".TP", shown.strip(), _escaped(" ".join((action.help or "").split())))


def _text(text: str) -> Iterator[str]:
    for paragraph in text.split("\n\n"):
        yield from (".PP", _escaped(" ".join(paragraph.split())))


def _verbatim(text: str) -> Iterator[str]:
    yield from (".PP", ".nf", *(_escaped(line) for line in text.splitlines()), ".fi")


def _escaped(text: str) -> str:
    """Text that means nothing to the formatter: a backslash, a dash, and a dot or a quote that begins a line."""
    text = text.replace("\\", "\\e").replace("-", "\\-")
    return re.sub(r"^(?=[.'])", r"\\&", text)
