"""A sweep: one analysis that is declared once and run for each of many values."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterator, Sequence
from pathlib import Path

from msgspec import structs

from lapidar.core.errors import DeclarationError
from lapidar.core.records.declaration import DeclaredAnalysis

__all__ = ["members"]

_RANGE = re.compile(r"(-?\d+)\.\.(-?\d+)")
_MOST = 100_000  # runs of one sweep
_PLACE = re.compile(r"\{([A-Za-z_][A-Za-z0-9_]*)\}")


def members(declared: DeclaredAnalysis, root: Path) -> Iterator[DeclaredAnalysis]:
    """The runs of a declared sweep, each as an analysis with a name of its own, its values, and its command.

    Args:
        root: what patterns of files are looked for below.

    Raises:
        DeclarationError: its values make no sense.
    """
    where = f"lapidar.toml, [analysis.{declared.name}]"
    values = {key: _values(one, root) for key, one in declared.sweep.items()}
    count = 1
    for several in values.values():
        count *= len(several)
    if count > _MOST:
        raise DeclarationError(f"{where} would be {count:,} runs", remedy=f"At most {_MOST:,} can be one sweep.")
    unknown = {name for word in declared.command for name in _PLACE.findall(word)} - values.keys()
    if unknown:
        raise DeclarationError(
            f"{where}: the command has {{{min(unknown)}}}, and `for` has no such value",
            remedy=f"It has: {', '.join(sorted(values))}.",
        )
    shown = {key: _short(several) for key, several in values.items()}
    for chosen in itertools.product(*(range(len(several)) for several in values.values())):
        of_this = {key: values[key][at] for key, at in zip(values, chosen, strict=True)}
        name = ",".join(shown[key][at] for key, at in zip(values, chosen, strict=True))
        command = tuple(_PLACE.sub(lambda found: of_this[found[1]], word) for word in declared.command)  # noqa: B023
        yield structs.replace(
            declared,
            name=f"{declared.name}[{name}]",
            command=command,
            values=of_this,
            sweep={},
            part_of=declared.name,
        )


def _values(told: Sequence[str] | str, root: Path) -> list[str]:
    """``["upper", "river"]``, ``"1..100"`` (both ends in it), or ``"raw/*.csv"``: the files that there are, sorted."""
    if not isinstance(told, str):
        return list(dict.fromkeys(told))
    found = _RANGE.fullmatch(told)
    if found:
        first, last = int(found[1]), int(found[2])
        return [str(number) for number in range(first, last + 1)] if last - first < _MOST else ["?"] * (_MOST + 1)
    if any(sign in told for sign in "*?["):
        return sorted(path.relative_to(root).as_posix() for path in root.glob(told) if path.is_file())
    return [told]


def _short(values: Sequence[str]) -> list[str]:
    """Values as they can be part of a name: of paths the last part, where these differ."""
    plain = [re.sub(r'[/\\@:*?"<>|\[\],]', "-", value.rpartition("/")[2]) for value in values]
    if len(set(plain)) < len(plain):
        plain = [re.sub(r'[/\\@:*?"<>|\[\],]', "-", value) for value in values]
    if len(set(plain)) < len(plain):
        plain = [f"{text}-{at}" for at, text in enumerate(plain)]
    return [text[:60] for text in plain]
