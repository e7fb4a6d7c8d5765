"""Text: line by line, the numbers inside of a line as numbers. Line ends, and the one at the very end, do not count; in
a log, neither do time stamps."""

from __future__ import annotations

import re
from collections.abc import Iterator
from difflib import SequenceMatcher
from itertools import islice, zip_longest
from pathlib import Path

from lapidar.core.results.differences import Differences, shown
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import Found, Pair, Unreadable

__all__ = ["compare", "compare_texts", "is_log"]

_MOST_LINE = 4 << 20  # characters
_MOST_ALIGNED = 4000  # lines that are aligned where some came or went
STAMP = re.compile(
    r"\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?)?(?:Z|[+-]\d\d:?\d\d)?"
    r"|\b(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun)?,? ?\d{0,2} ?"
    r"(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)[a-z]* +\d{1,4}"
    r"(?: \d\d:\d\d:\d\d)?(?: \d{4})?|\b\d\d:\d\d:\d\d(?:[.,]\d+)?"
)


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two texts; they may be larger than memory as long as no line comes or goes."""
    differences = Differences(rules)
    log = is_log(pair.before) and is_log(pair.after)
    with _opened(pair.before) as one, _opened(pair.after) as other:
        _lines(_stripped(one), _stripped(other), differences, log)
    if log:
        differences.set_aside["time stamps"] = None
    return differences.found()


def compare_texts(before: str, after: str, where: str, into: Differences) -> None:
    """Compare two texts inside of something else."""
    ones, others = before.splitlines(), after.splitlines()
    if len(ones) != len(others):
        into.say(f"{where}: {len(ones):,} lines -> {len(others):,}")
    for number, (one, other) in enumerate(zip(ones, others, strict=False), 1):
        into.line(f"{where} line {number}", where, one, other)


def _opened(path: Path):  # type: ignore[no-untyped-def]
    return path.open(encoding="utf-8-sig", errors="surrogateescape", newline=None)


def _stripped(stream) -> Iterator[str]:  # type: ignore[no-untyped-def]
    while line := stream.readline(_MOST_LINE):
        if len(line) >= _MOST_LINE:
            raise Unreadable(f"it has a line of more than {_MOST_LINE:,} characters")
        yield line.rstrip("\n")


def is_log(path: Path) -> bool:
    """Whether most of its first lines begin with a time stamp."""
    with path.open(encoding="utf-8", errors="replace") as stream:
        lines = [line for line in islice(stream, 40) if line.strip()]
    return len(lines) > 1 and sum(bool(STAMP.match(line.lstrip("[( "))) for line in lines) * 2 > len(lines)


def _lines(one: Iterator[str], other: Iterator[str], into: Differences, log: bool) -> None:
    """In step, as long as lines only change; from the first that comes or goes on, a window is aligned."""
    for number, (before, after) in enumerate(zip_longest(one, other), 1):
        if before is None or after is None:
            _rest(number, before, after, one, other, into)
            return
        if before == after:
            continue
        if log:
            before, after = STAMP.sub("<time>", before), STAMP.sub("<time>", after)
        at, told, first = into.is_different, len(into.details), into.first
        into.line(f"line {number}", f"line {number}", before, after)
        if into.is_different and not at:
            # The first line that differs in more than numbers: one may have come or gone.
            ones, others = list(islice(one, _MOST_ALIGNED)), list(islice(other, _MOST_ALIGNED))
            if len(ones) != len(others):
                del into.details[told:]
                into.first = first
                _aligned(number, [before, *ones], [after, *others], into)
            else:
                for below, (first, second) in enumerate(zip(ones, others, strict=True), number + 1):
                    into.line(f"line {below}", f"line {below}", first, second)


def _rest(
    number: int, before: str | None, after: str | None, one: Iterator[str], other: Iterator[str], into: Differences
) -> None:
    left = 1 + sum(1 for _ in (one if after is None else other))
    what = "gone" if after is None else "new"
    into.say(f"line {number} on: {left:,} lines {what}, the first: {shown(before if after is None else after)}")


def _aligned(first: int, ones: list[str], others: list[str], into: Differences) -> None:
    for kind, a, b, c, d in SequenceMatcher(None, ones, others, autojunk=False).get_opcodes():
        if kind == "replace" and b - a == d - c:
            for step in range(b - a):
                into.line(f"line {first + a + step}", f"line {first + a + step}", ones[a + step], others[c + step])
        elif kind != "equal":
            for line in ones[a:b]:
                into.say(f"line {first + a}: - {shown(line)}")
            for line in others[c:d]:
                into.say(f"line {first + c}: + {shown(line)}")
