"""Text: line by line, the numbers inside of a line as numbers. Line ends, and the one at the very end, do not count; in
a log, neither does the time stamp that a line begins with. Days and times elsewhere are data."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from difflib import SequenceMatcher
from itertools import islice, zip_longest

from lapidar.core.results.differences import Differences, shown
from lapidar.core.results.reading import encoding_in, opened
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable

__all__ = ["compare", "compare_texts", "is_log"]

_MOST_LINE = 4 << 20  # characters
_MOST_ALIGNED = 4000  # lines that are aligned where some came or went
STAMP = re.compile(
    r"\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:[.,]\d+)?)?)?(?:Z|[+-]\d\d:?\d\d)?"
    r"|\b(?:Mon|Tue|Wed|Thu|Fri|Sat|Sun)?,? ?\d{0,2} ?"
    r"(?:Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)[a-z]* +\d{1,4}"
    r"(?: \d\d:\d\d:\d\d)?(?: \d{4})?|\b\d\d:\d\d:\d\d(?:[.,]\d+)?"
)


# The stamp that a line of a log begins with: a word follows, and not the next cell of a table.
_BEGINS = re.compile(rf"[\[(<]*(?:{STAMP.pattern})[\])>]*(?=[\s:|-]+\S)")
_WORD = re.compile(r"[^\W\d_]{2}")


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two texts; they may be larger than memory as long as no line comes or goes."""
    differences = Differences(rules)
    encodings = [rules.reading.encoding or encoding_in(path) for path in (pair.before, pair.after)]
    if encodings[0] != encodings[1]:
        differences.taken[f"the one is in {encodings[0]}, the other in {encodings[1]}"] = None
    try:
        sides = [opened(path, encoding) for path, encoding in zip((pair.before, pair.after), encodings, strict=True)]
        with sides[0] as one, sides[1] as other:
            is_declared = rules.reading.kind in ("text", "log")
            heads = [] if is_declared else [list(islice(stream, 40)) for stream in (one, other)]
            log = rules.reading.kind == "log" if is_declared else all(map(is_log, heads))
            for stream in (one, other):
                stream.seek(0)
            _lines(_stripped(one), _stripped(other), differences, log)
    except UnicodeError as error:
        raise Unreadable(f"it is not in {encodings[0]}: {error}") from error
    if not (differences.differs or differences.equated or differences.set_aside or differences.taken):
        differences.set_aside["how lines end"] = None
    return differences.found()


def compare_texts(before: str, after: str, where: str, into: Differences) -> None:
    """Compare two texts inside of something else."""
    ones, others = before.splitlines(), after.splitlines()
    if len(ones) != len(others):
        into.say(f"{where}: {len(ones):,} lines -> {len(others):,}")
    for number, (one, other) in enumerate(zip(ones, others, strict=False), 1):
        into.line(f"{where} line {number}", where, one, other)


def _stripped(stream) -> Iterator[str]:  # type: ignore[no-untyped-def]
    while line := stream.readline(_MOST_LINE):
        if len(line) >= _MOST_LINE:
            raise BeyondLimit(f"it has a line of more than {_MOST_LINE:,} characters")
        yield line.rstrip("\n")


def is_log(lines: Iterable[str]) -> bool:
    """Whether most lines begin with a time stamp, and say something in words after it."""
    lines = [line.strip() for line in lines if line.strip()]
    return len(lines) > 1 and sum(map(_is_logged, lines)) * 2 > len(lines)


def _is_logged(line: str) -> bool:
    stamp = _BEGINS.match(line)
    return stamp is not None and _WORD.search(line, stamp.end()) is not None


def _lines(one: Iterator[str], other: Iterator[str], into: Differences, log: bool) -> None:
    """In step, as long as lines only change; from the first that comes or goes on, a window is aligned."""
    for number, (before, after) in enumerate(zip_longest(one, other), 1):
        if before is None or after is None:
            _rest(number, before, after, one, other, into)
            return
        if before == after:
            continue
        if log:
            before, after = (_unstamped(line, into) for line in (before, after))
        at, told, first = into.is_different, len(into.details), into.first
        into.line(f"line {number}", f"line {number}", before, after)
        if into.is_different and not at:
            # The first line that differs in more than numbers: one may have come or gone.
            ones, others = list(islice(one, _MOST_ALIGNED)), list(islice(other, _MOST_ALIGNED))
            if log:
                ones, others = ([_unstamped(line, into) for line in side] for side in (ones, others))
            if len(ones) != len(others):
                del into.details[told:]
                into.first = first
                _aligned(number, [before, *ones], [after, *others], into)
            else:
                for below, (first, second) in enumerate(zip(ones, others, strict=True), number + 1):
                    into.line(f"line {below}", f"line {below}", first, second)


def _unstamped(line: str, into: Differences) -> str:
    stamp = _BEGINS.match(line.lstrip())
    if stamp is None:
        return line
    into.set_aside["the time stamps that lines begin with"] = None
    return "<time>" + line.lstrip()[stamp.end() :]


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
