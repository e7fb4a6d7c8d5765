"""Figures of what differs, as one would put them into a lab book: of numbers, how far each went and the distribution
of the differences; of pictures, both and the difference; of tables, where in the table."""

from __future__ import annotations

import io
import math
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from lapidar.core import atomic
from lapidar.core.errors import LapidarError
from lapidar.core.results.kinds import notebook
from lapidar.core.results.numbers import Numbers
from lapidar.core.results.verdict import Compared, Unreadable

__all__ = ["draw", "draw_one", "has_figure"]

_INK, _BEFORE, _AFTER, _WRONG = "#22303c", "#3b6ea5", "#c8742a", "#b3261e"
_MOST = 4  # results in one figure
_LOOKED_AT = ("picture", "PDF", "drawing")
_MOST_NAMES, _LONGEST_NAME = 14, 12  # of columns
_MOST_PIXELS = 1600  # of a side that is drawn

Files = Mapping[str, tuple[Path, Path]]


def has_figure(one: Compared, files: Files) -> bool:
    """Whether a verdict can be drawn."""
    if one.kind in _LOOKED_AT:
        return one.path in files and bool(one.details)
    if one.kind == "notebook" and one.path in files and notebook.has_picture(one.details):
        return True
    return bool(one.numbers and one.numbers.differing)


def draw(compared: Sequence[Compared], files: Files, into: Path) -> None:
    """Draw the first results that differ into one figure.

    Args:
        files: the two files of each result, where they are at hand.
        into: a .png or .svg.

    Raises:
        LapidarError: nothing can be drawn here, or the name says no form that is drawn.
    """
    if into.suffix.lower() not in (".png", ".svg", ".pdf"):
        raise LapidarError(f"{into} is no name of a figure", remedy="Give it the suffix .png or .svg.")
    chosen = [one for one in compared if has_figure(one, files)][:_MOST]
    pyplot = _pyplot()
    figure = pyplot.figure(figsize=(11, 0.8 + 3.6 * max(1, len(chosen))), layout="constrained")
    if not chosen:
        figure.text(0.5, 0.5, "Nothing differs that can be drawn.", ha="center", va="center", color=_INK)
    parts = figure.subfigures(max(1, len(chosen)), 1, squeeze=False)
    for one, (part,) in zip(chosen, parts, strict=False):
        _one(part, one, files)
    _save(figure, into)
    pyplot.close(figure)


def draw_one(one: Compared, files: Files, into: Path) -> None:
    """Draw one result."""
    pyplot = _pyplot()
    figure = pyplot.figure(figsize=(10, 3.6), layout="constrained")
    _one(figure, one, files)
    _save(figure, into)
    pyplot.close(figure)


def _pyplot() -> Any:
    try:
        import matplotlib
    except ImportError as error:
        raise LapidarError("Nothing can be drawn: Matplotlib is missing", remedy="Install lapidar[compare].") from error
    matplotlib.use("Agg")
    import matplotlib.pyplot

    matplotlib.rcParams.update(
        {
            "axes.edgecolor": _INK,
            "axes.labelcolor": _INK,
            "text.color": _INK,
            "xtick.color": _INK,
            "ytick.color": _INK,
            "axes.spines.top": False,
            "axes.spines.right": False,
            "font.size": 9,
            "axes.titlesize": 9,
        }
    )
    return matplotlib.pyplot


def _save(figure: Any, into: Path) -> None:
    form = into.suffix.lower().removeprefix(".")
    drawn = io.BytesIO()
    # Neither form says when it was drawn: the same differences are the same bytes.
    dates = {"svg": {"Date": None}, "pdf": {"CreationDate": None}}
    figure.savefig(drawn, format=form, dpi=130, metadata=dates.get(form))
    atomic.write_file(into, drawn.getvalue())


def _one(part: Any, one: Compared, files: Files) -> None:
    part.suptitle(f"{one.path}: {one.verdict}\n{one.worst}", fontsize=10)
    if one.kind == "picture" and one.path in files:
        _pictures(part, *files[one.path])
        return
    if one.kind in _LOOKED_AT and one.path in files and _pages(part, *files[one.path]):
        return
    if one.kind == "notebook" and one.path in files and _notebook(part, *files[one.path]):
        return
    if one.numbers is None or not one.numbers.differing:
        part.text(0.5, 0.5, "it cannot be drawn here", ha="center", va="center", color=_INK)
        return
    axes = part.subplots(1, 3 if one.places else 2)
    _apart(axes[0], one.numbers)
    _distribution(axes[1], one.numbers)
    if one.places:
        _where(axes[2], one)


def _apart(axes: Any, numbers: Numbers) -> None:
    """After less before: against the diagonal of both one would see nothing."""
    pairs = [(before, after) for before, after in numbers.pairs if abs(before) < 1e300 and abs(after) < 1e300]
    same = [pair for pair in pairs if pair[0] == pair[1]]
    other = [pair for pair in pairs if pair[0] != pair[1]]
    equal = numbers.compared - numbers.differing
    for several, colour, label in ((same, _BEFORE, f"equal ({equal:,})"), (other, _WRONG, _differing(numbers, other))):
        if several:
            firsts = [first for first, _ in several]
            apart = [second - first for first, second in several]
            axes.scatter(firsts, apart, s=12, color=colour, alpha=0.6, label=label, linewidths=0)
    axes.axhline(0, color=_INK, linewidth=0.6, alpha=0.5)
    sizes = sorted(abs(after - before) for before, after in other)
    if sizes and sizes[-1] > 1000 * sizes[0]:
        _by_powers(axes, sizes, [after - before for before, after in other])
    axes.set(xlabel="before", ylabel="after less before")
    if same:
        axes.set_title("how far each went")
        axes.legend(frameon=False, loc="best", handletextpad=0.2)
    else:  # a legend of one entry would be taken for a number among the others
        axes.set_title(f"how far each went: {_differing(numbers, other)}")


def _by_powers(axes: Any, sizes: Sequence[float], apart: Sequence[float]) -> None:
    """A scale by powers of ten to both sides of 0, with as many ticks as can be read, on the sides that there are."""
    low, high = math.floor(math.log10(sizes[0])), math.ceil(math.log10(sizes[-1]))
    step = max(1, (high - low + 2) // 4)
    powers = [10.0**power for power in range(high, low, -step)]
    axes.set_yscale("symlog", linthresh=10.0 ** (low + 1))
    up, down = max(apart) > 0, min(apart) < 0
    axes.set_yticks([*(-power for power in powers if down), 0, *(power for power in powers if up)])
    axes.minorticks_off()
    least = 10.0**low
    axes.set_ylim(-2 * 10.0**high if down else -least, 2 * 10.0**high if up else least)


def _differing(numbers: Numbers, shown: Sequence[object]) -> str:
    some = f", {len(shown):,} of them shown" if len(shown) < numbers.differing else ""
    return f"differing ({numbers.differing:,}{some})"


def _distribution(axes: Any, numbers: Numbers) -> None:
    buckets = sorted(numbers.distribution.items())
    labels = ["<1" if power < 0 else "inf" if power >= 64 else f"$2^{{{power}}}$" for power, _ in buckets]
    axes.bar(range(len(buckets)), [count for _, count in buckets], color=_AFTER)
    step = max(1, len(labels) // 7)
    axes.set_xticks(range(0, len(labels), step), labels[::step])
    axes.set(xlabel="units in the last place, by powers of two", ylabel="numbers", title="how far apart")
    axes.yaxis.get_major_locator().set_params(integer=True)


def _where(axes: Any, one: Compared) -> None:
    rows, columns = zip(*one.places, strict=True)
    axes.scatter([column + 1 for column in columns], rows, marker="s", s=10, color=_WRONG, linewidths=0)
    axes.set(xlabel="column", ylabel="row", title="where in the table")
    names = one.extent.columns if one.extent else ()
    last = max(*rows, one.extent.rows) if one.extent else max(rows)
    axes.set(ylim=(last + 0.5, 0.5), xlim=(0.5, max(len(names), *columns) + 0.5 if names else max(columns) + 1.5))
    axes.yaxis.get_major_locator().set_params(integer=True)
    if 0 < len(names) <= _MOST_NAMES:
        short = [name if len(name) <= _LONGEST_NAME else name[: _LONGEST_NAME - 1] + "…" for name in names]
        axes.set_xticks(range(1, len(names) + 1), short, rotation=0 if len("".join(short)) < 24 else 60)
        axes.set(xlabel="")
    else:
        axes.xaxis.get_major_locator().set_params(integer=True, min_n_ticks=1)


def _pages(part: Any, before: Path, after: Path) -> bool:
    """Draw the first page that looks different, or the first; False where none can be drawn."""
    from lapidar.core.results.kinds import pages

    with pages.drawn(before, after) as both:
        pairs = list(zip(*both, strict=False))
        if not pairs:
            return False
        _pictures(part, *next((pair for pair in pairs if pair[0].read_bytes() != pair[1].read_bytes()), pairs[0]))
    return True


def _notebook(part: Any, before: Path, after: Path) -> bool:
    """Draw the first picture in two notebooks that is another; False where none can be drawn."""
    with notebook.first_picture(before, after) as found:
        if found is None:
            return False
        kind, one, other = found
        if kind in ("image/svg+xml", "application/pdf"):
            return _pages(part, one, other)
        _pictures(part, one, other)
    return True


def _pictures(part: Any, before: Path, after: Path) -> None:
    import numpy

    from lapidar.core.results.kinds.picture import opened

    axes = part.subplots(1, 3)
    pixels = []
    for place, path, title in ((axes[0], before, "before"), (axes[1], after, "after")):
        try:
            picture = opened(path).convert("RGB")
        except (Unreadable, OSError):
            place.text(0.5, 0.5, "cannot be read", ha="center")
            continue
        picture.thumbnail((_MOST_PIXELS, _MOST_PIXELS))
        pixels.append(numpy.asarray(picture).astype(float))
        place.imshow(picture)
        place.set_title(title)
    if len(pixels) == 2 and pixels[0].shape == pixels[1].shape:
        difference = numpy.abs(pixels[0] - pixels[1]).max(axis=2)
        shown = axes[2].imshow(difference, cmap="magma_r", vmin=0, vmax=max(1, difference.max()))
        axes[2].set_title("difference (of 255)")
        part.colorbar(shown, ax=axes[2], shrink=0.8)
    for place in axes:
        place.set_axis_off()
