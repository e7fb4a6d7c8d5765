"""What a person sees: lines, tables, progress bars, sizes and times; and the JSON object for machines."""

from __future__ import annotations

import os
import re
import sys
import textwrap
import time
from collections.abc import Collection, Sequence
from itertools import zip_longest
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

if TYPE_CHECKING:
    from rich.progress import Progress as RichProgress
    from rich.progress import TaskID

    from lapidar.core.errors import LapidarError
    from lapidar.core.records.snapshot import Runtime

__all__ = ["Bar", "View", "human_bytes", "human_count", "human_path", "human_seconds", "runtime_title"]

_NARROWEST = 8  # characters of a column that is folded
_STYLES = {"heading": "1", "good": "32", "bad": "31", "warn": "33", "faint": "2"}


def human_bytes(size: int) -> str:
    """``61.2 MB``"""
    if size < 1000:
        return f"{size} B"
    value = float(size)
    for unit in ("kB", "MB", "GB"):
        value /= 1000
        if value < 999.95:
            return f"{value:.1f} {unit}"
    return f"{value / 1000:.1f} TB"


def human_seconds(seconds: float) -> str:
    """``3.2 s``, ``2 min 5 s``"""
    if seconds < 10:
        return f"{seconds:.2g} s" if seconds < 1 else f"{seconds:.1f} s"
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes} min {rest} s" if minutes else f"{rest} s"


def human_count(count: int, one: str, several: str = "") -> str:
    """``1 file``, ``1,873 files``"""
    return f"{count:,} {one if count == 1 else several or one + 's'}"


def human_path(path: Path | str) -> str:
    """A path as a person would type it here: relative where that is shorter, with ~ for the home folder."""
    path = os.path.abspath(path)
    home = os.path.expanduser("~")
    absolute = "~" + path[len(home) :] if path.startswith(home + "/") else path
    return min(os.path.relpath(path), absolute, key=len)


def typed_path(path: Path | str) -> str:
    """A path as it stands in a command that somebody is told to type."""
    import shlex

    text = human_path(path)
    return f"~/{shlex.quote(text[2:])}" if text.startswith("~/") else shlex.quote(text)


_TITLES = {"cpython": "CPython", "gnu-r": "R"}


def runtime_title(runtime: Runtime) -> str:
    """``CPython 3.11.7 (main, GCC 12.2.0)``"""
    name = _TITLES.get(runtime.implementation, runtime.implementation)
    return f"{name} {runtime.version}" + (f" ({runtime.build})" if runtime.build else "")


def printable(text: str) -> str:
    """Text with control characters and undecodable bytes made visible, so that no name can garble a terminal."""
    if text.isprintable():
        return text
    return "".join(
        char if char.isprintable() else char.encode("unicode_escape", "surrogatepass").decode() for char in text
    )


def _encodable(value: Any) -> Any:
    """A value with all bytes in its texts that are no UTF-8 written as escapes."""
    if isinstance(value, str):
        return value.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
    if isinstance(value, dict):
        return {_encodable(key): _encodable(one) for key, one in value.items()}
    if isinstance(value, (list, tuple)):
        return [_encodable(one) for one in value]
    return value


def _widths(rows: Sequence[Sequence[str]], limit: str) -> list[int]:
    """How wide the columns of a plain table are: as wide as they need, or, where it is asked to be no wider than so
    many characters (COLUMNS), with the widest ones folded."""
    widths = [max(1, *(len(row[at]) for row in rows)) for at in range(len(rows[0]))]
    if limit.isdigit():
        while sum(widths) + 2 * (len(widths) - 1) > int(limit) and max(widths) > _NARROWEST:
            widths[widths.index(max(widths))] -= 1
    return widths


def _is_terminal(stream: TextIO) -> bool:
    return stream.isatty() and os.environ.get("TERM") != "dumb"


class View:
    """Writes results to standard output and everything else to standard error.

    Args:
        json: one object on standard output and nothing else there.
        quiet: results and errors only.
        verbose: more.
        whose: the words by which the place was named that a command is about; "" for that of the current folder. A
            command that somebody is told to type gets them too, or it would be about another place.
        commands: those that are about a place.
    """

    def __init__(
        self,
        *,
        json: bool = False,
        quiet: bool = False,
        verbose: bool = False,
        whose: str = "",
        commands: Collection[str] = (),
    ) -> None:
        self._whose, self._commands = whose, commands
        self.json = json
        self.quiet = quiet or json
        self.verbose = verbose
        self._colours = "NO_COLOR" not in os.environ

    def styled(self, text: str, style: str, stream: TextIO | None = None) -> str:
        """Coloured on a terminal that wants it."""
        stream = stream or sys.stdout
        if self._colours and _is_terminal(stream):
            return f"\033[{_STYLES[style]}m{text}\033[0m"
        return text

    def told(self, text: str) -> str:
        """A sentence, with the commands in it as they are to be typed from here."""
        if not self._whose or "lapidar " not in text:
            return text
        import shlex

        name = os.path.basename(shlex.split(self._whose)[-1])

        def addressed(found: re.Match[str]) -> str:
            rest = text[found.end() :]
            named = re.match(r"[^`;.(]* --(?:project|script)\b", rest) or (found[1] == "run" and name in rest)
            return found[0] if named or found[1] not in self._commands else f"{found[0]} {self._whose}"

        return re.sub(r"\blapidar ([a-z]+)\b", addressed, text)

    def line(self, text: str = "", style: str = "") -> None:
        """A line of what the command is for; not with --json."""
        if not self.json:
            text = printable(self.told(text))
            print(self.styled(text, style) if style else text)

    def note(self, text: str = "", style: str = "") -> None:
        """A line that -q leaves out."""
        if not self.quiet:
            self.line(text, style)

    def remark(self, text: str) -> None:
        """One line on standard error, where nobody asked for quiet: standard output belongs to another program."""
        if not self.quiet:
            print(self.styled("lapidar:", "faint", sys.stderr), printable(text), file=sys.stderr)

    def warn(self, text: str) -> None:
        """A warning, on standard error."""
        print(self.styled("note:", "warn", sys.stderr), printable(self.told(text)), file=sys.stderr)

    @property
    def has_company(self) -> bool:
        """Whether anybody sits there to answer."""
        return not self.json and sys.stdin.isatty() and sys.stderr.isatty()

    def asks(self, question: str) -> bool:
        """Ask whoever sits at the terminal; false where there is nobody to ask."""
        if not self.has_company:
            return False
        print(f"{printable(question)} [y/N] ", end="", file=sys.stderr, flush=True)
        return sys.stdin.readline().strip().lower() in ("y", "yes")

    def agrees(self, question: str) -> bool:
        """Ask whoever sits at the terminal; where there is nobody to ask, nobody is against it."""
        return not self.has_company or self.asks(question)

    def error(self, error: LapidarError) -> None:
        """What, why, and what to do next."""
        remedy = self.told(error.remedy)
        if self.json:
            self.object({"error": {"what": error.what, "why": error.why.strip(), "remedy": remedy}})
            return
        print(self.styled("lapidar:", "bad", sys.stderr), printable(error.what), file=sys.stderr)
        if error.why:
            # Core begins the lines of a longer reason with two spaces; a name that holds a new line has it escaped.
            lines = [printable(line) for line in error.why.strip().split("\n  ")]
            print("  why:  " + "\n        ".join(lines), file=sys.stderr)
        if remedy:
            print("  next: " + printable(remedy), file=sys.stderr)

    def object(self, value: Any) -> None:
        """The JSON object of a command."""
        import msgspec

        try:
            data = msgspec.json.encode(value, enc_hook=str)
        except UnicodeEncodeError:  # a name that is no UTF-8
            data = msgspec.json.encode(_encodable(msgspec.to_builtins(value, enc_hook=str)))
        print(msgspec.json.format(data, indent=2).decode("utf-8", "backslashreplace"))

    def table(self, columns: Sequence[str], rows: Sequence[Sequence[str]], *, right: Sequence[int] = ()) -> None:
        """A table: drawn on a terminal, aligned plain lines elsewhere.

        Args:
            columns: the headings.
            right: the columns to align to the right.
        """
        if self.json:
            return
        cells = [[printable(cell) for cell in row] for row in rows]
        if _is_terminal(sys.stdout):
            self._drawn(columns, cells, right)
            return
        rows = [list(columns), *cells]
        widths = _widths(rows, os.environ.get("COLUMNS", ""))
        for row in rows:
            folded = [
                [cell] if len(cell) <= width else textwrap.wrap(cell, width)
                for cell, width in zip(row, widths, strict=True)
            ]
            for line in zip_longest(*folded, fillvalue=""):
                shown = [
                    cell.rjust(width) if at in right else cell.ljust(width)
                    for at, (cell, width) in enumerate(zip(line, widths, strict=True))
                ]
                print("  ".join(shown).rstrip())

    def _drawn(self, columns: Sequence[str], cells: list[list[str]], right: Sequence[int]) -> None:
        from rich import box
        from rich.console import Console
        from rich.table import Table
        from rich.text import Text

        table = Table(box=box.SIMPLE_HEAD, header_style="bold", pad_edge=False, show_edge=False)
        for at, column in enumerate(columns):
            table.add_column(column, justify="right" if at in right else "left", overflow="fold")
        for row in cells:
            table.add_row(*(Text(cell) for cell in row))
        Console(no_color=not self._colours, highlight=False).print(table)

    def reporter(self) -> Bar:
        """Progress for the core: a bar on a terminal, a line every few seconds elsewhere."""
        is_terminal = _is_terminal(sys.stderr)
        return Bar(shown=not self.quiet and is_terminal, lines=not self.quiet and not self.json and not is_terminal)


class Bar:
    """A progress bar on standard error; appears only for work that takes a moment. Or, without a terminal, lines for
    work that takes longer."""

    _PATIENCE_SECONDS = 0.3
    _SECONDS_A_LINE = 5.0

    def __init__(self, *, shown: bool, lines: bool = False) -> None:
        self._shown = shown
        self._lines = lines
        self._last_line = time.monotonic()
        self._tasks: list[_Task] = []  # what began inside of another stands last
        self._bar: RichProgress | None = None
        self._id: TaskID | None = None

    def begin(self, task: str, total: int, unit: str) -> None:
        self._close()
        self._tasks.append(_Task(task, total, unit))
        if self._shown and not unit:  # of such a task nothing more is heard until its end
            self._open(self._tasks[-1])
        elif not unit:
            self._tell(self._tasks[-1])

    def _tell(self, task: _Task) -> None:
        """A line, where there is no terminal, and the last one was a while ago."""
        now = time.monotonic()
        if not self._lines or now - self._last_line < self._SECONDS_A_LINE:
            return
        self._last_line = now
        of = human_bytes if task.unit == "bytes" else lambda count: f"{count:,} {task.unit}".rstrip()
        told = f": {of(task.done)}" if task.unit else ""
        told += f" of {of(task.total)}" if task.unit and task.total else ""
        print(f"{task.name}{told} ...", file=sys.stderr, flush=True)

    def advance(self, steps: int) -> None:
        if not self._tasks:
            return
        task = self._tasks[-1]
        task.done += steps
        if task.unit:
            self._tell(task)
        if not self._shown or not task.unit:
            return
        if self._bar is None:
            if time.monotonic() - task.began < self._PATIENCE_SECONDS:
                return
            self._open(task)
        assert self._bar is not None and self._id is not None
        self._bar.update(self._id, completed=task.done)

    def _open(self, task: _Task) -> None:
        from rich.console import Console
        from rich.progress import (
            BarColumn,
            DownloadColumn,
            MofNCompleteColumn,
            Progress,
            ProgressColumn,
            SpinnerColumn,
            TextColumn,
            TimeElapsedColumn,
            TimeRemainingColumn,
        )

        columns: list[ProgressColumn] = [TextColumn("{task.description:<20}")]
        if task.total:
            count = DownloadColumn() if task.unit == "bytes" else MofNCompleteColumn()
            columns += [BarColumn(bar_width=40), count, TimeRemainingColumn()]
        else:  # nobody knows how much there is
            columns += [SpinnerColumn("line"), TimeElapsedColumn()]
            if task.unit:
                columns.append(TextColumn(f"{{task.completed:.0f}} {task.unit}"))
        console = Console(stderr=True, no_color="NO_COLOR" in os.environ)
        self._bar = Progress(*columns, console=console, transient=True)
        self._bar.start()
        self._id = self._bar.add_task(task.name, total=task.total or None)

    def end(self) -> None:
        self._close()
        if self._tasks:
            self._tasks.pop()

    def _close(self) -> None:
        if self._bar is not None:
            self._bar.stop()
            self._bar = None


class _Task:
    """A piece of work: how much there is of it in all (0: nobody knows), in what unit ("": it tells nothing until its
    end). A plain class: what would write it for us takes long to load, at every start."""

    def __init__(self, name: str, total: int, unit: str) -> None:
        self.name, self.total, self.unit = name, total, unit
        self.began = time.monotonic()
        self.done = 0
