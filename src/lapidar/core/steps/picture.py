"""Steps as a drawing: files of raw data and analyses, from left to right, each coloured by its standing, with words."""

from __future__ import annotations

import posixpath
import shlex
from collections import defaultdict
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any, NamedTuple

from msgspec import Struct

from lapidar.core import atomic, pages
from lapidar.core.errors import LapidarError
from lapidar.core.steps.graph import Graph, Standing, Step

__all__ = ["draw"]

_INK, _FAINT, _LINE = "#22303c", "#4a5761", "#8b96a0"
_FULL = 40  # steps that are drawn with all that is to be said of them
_MOST_RAW = 12  # files of raw data that are drawn one by one


class _Look(NamedTuple):
    fill: str
    stroke: str
    thick: float = 1.4
    dashes: str = ""


# Told apart by the colour-blind too: by lightness, by borders, and by the word that always stands there.
_LOOKS = {
    Standing.UP_TO_DATE: _Look("#eaf3f8", "#2f6f9f"),
    Standing.OUT_OF_DATE: _Look("#f6c65b", "#7a5200", 2.0),
    Standing.WAITS: _Look("#fdf3d6", "#a27a1d", 1.4, "6 3"),
    Standing.NEVER_RAN: _Look("#ffffff", "#6b7680", 1.4, "2 3"),
    Standing.FAILED: _Look("#d9653b", "#6e2208", 2.6),
    Standing.AT_ODDS: _Look("#d7c3e6", "#5d2f85", 2.6, "8 2"),
}
_RAW = _Look("#f4f1eb", "#9a917f", 1.0)


class _Node(Struct, dict=True):
    """A box: a step, or a file of raw data.

    Attributes:
        rank: its column. place: where in it.
    """

    name: str
    step: Step | None
    lines: list[tuple[str, float, str, bool, bool]]
    look: _Look
    earlier: list[tuple[str, bool]]
    rank: int = 0
    place: float = 0.0
    x: float = 0.0
    y: float = 0.0
    width: float = 0.0
    height: float = 0.0


def draw(graph: Graph, into: Path, why: Mapping[str, Sequence[str]], about: str = "") -> None:
    """Draw steps.

    Args:
        into: a .svg, .png or .html.
        why: by each step, what is to be said of its standing.
        about: a file that they are the way of.

    Raises:
        LapidarError: the name says no form that is drawn, or what makes it is not installed.
    """
    suffix = into.suffix.lower()
    if suffix not in (".svg", ".png", ".html"):
        raise LapidarError(f"{into} is no name of a drawing", remedy="Give it the suffix .svg, .png or .html.")
    drawing = _svg(graph, why, about, links=suffix == ".html")
    match suffix:
        case ".svg":
            data = drawing.encode("utf-8")
        case ".html":
            data = _page(graph, drawing, why, about).encode("utf-8")
        case _:
            data = _png(drawing)
    atomic.write_file(into, data)


def _png(drawing: str) -> bytes:
    try:
        import cairosvg
    except (ImportError, OSError) as error:
        raise LapidarError(
            "A .png cannot be drawn: CairoSVG is missing", remedy="Install lapidar[compare], or draw a .svg."
        ) from error
    data: bytes = cairosvg.svg2png(bytestring=drawing.encode("utf-8"), scale=1.5)
    return data


def _label(graph: Graph, about: str) -> str:
    if about:
        return f"The way of {about}"
    counted: defaultdict[Standing, int] = defaultdict(int)
    for step in graph.steps.values():
        counted[step.standing] += 1
    told = ", ".join(f"{counted[one]} {one}" for one in Standing if counted[one])
    return f"{len(graph.steps)} step{'s' if len(graph.steps) != 1 else ''}: {told or 'nothing is recorded'}"


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else text[: most - 1] + "\u2026"


def _nodes(graph: Graph, why: Mapping[str, Sequence[str]]) -> dict[str, _Node]:
    nodes: dict[str, _Node] = {}
    shown = _shown(graph)
    is_full = len(set(shown.values())) <= _FULL
    for name, step in graph.steps.items():
        if shown[name] != name:
            continue  # of a sweep, told with another run of it
        sweep = step.declared.part_of
        runs = [one for one in graph.steps.values() if one.declared.part_of == sweep] if sweep else []
        title = f"{sweep} ({len(runs)} runs)" if runs else name
        lines = [(_cut(title, 26), 13.0, _INK, True, False), (str(step.standing), 11.0, _INK, False, False)]
        if runs and (bad := sum(not one.is_good for one in runs)):
            lines.append((f"{bad} of {len(runs)}", 11.0, _INK, False, False))
        if is_full:
            lines += [(_cut(text, 34), 10.5, _FAINT, False, False) for text in list(why.get(name, ()))[:2]]
            made = step.analysis.result if step.analysis else ()
            lines += [(_cut(posixpath.basename(one.path), 28), 10.0, _INK, False, True) for one in made[:3]]
            if len(made) > 3:
                lines.append((f"and {len(made) - 3} more files", 10.0, _FAINT, False, False))
        before: dict[str, bool] = {}
        for other in runs or [step]:
            for one, files in other.after.items():
                if one in shown and shown[one] != name:
                    before[shown[one]] = before.get(shown[one], False) or bool(files)
        earlier = list(before.items())
        nodes[name] = _Node(name, step, lines, _LOOKS[step.standing], earlier)
    _add_raw(nodes, graph, shown)
    return nodes


def _shown(graph: Graph) -> dict[str, str]:
    """By each step, the step whose box it is drawn in: of a sweep, the first of its runs that is not up to date."""
    of_sweeps: dict[str, str] = {}
    for name, step in graph.steps.items():
        sweep = step.declared.part_of
        if sweep and (sweep not in of_sweeps or (graph.steps[of_sweeps[sweep]].is_good and not step.is_good)):
            of_sweeps[sweep] = name
    return {name: of_sweeps.get(step.declared.part_of, name) for name, step in graph.steps.items()}


def _add_raw(nodes: dict[str, _Node], graph: Graph, shown: Mapping[str, str]) -> None:
    """Files that no step makes: where they are many, those that the same steps read are one box."""
    made = graph.made
    readers: dict[str, list[str]] = defaultdict(list)
    for name, step in graph.steps.items():
        unread = set(step.used.unread)
        for file in step.analysis.input if step.analysis else ():
            if file.name in made or file.name in unread or shown[name] in readers.get(file.path, ()):
                continue
            readers[file.path].append(shown[name])
    groups: dict[tuple[str, ...], list[str]] = defaultdict(list)
    for path, names in readers.items():
        groups[tuple(names) if len(readers) > _MOST_RAW else (path, *names)].append(path)
    if len(groups) > 3 * _MOST_RAW:
        return  # so many that they would hide the steps
    for number, (_, paths) in enumerate(groups.items()):
        text = _cut(paths[0], 30) if len(paths) == 1 else f"{_cut(paths[0], 20)} and {len(paths) - 1} more"
        key = f"\0raw {number}"
        nodes[key] = _Node(key, None, [(text, 10.5, _INK, False, True)], _RAW, [])
        for name in readers[paths[0]]:
            nodes[name].earlier.append((key, True))


def _ranked(nodes: dict[str, _Node]) -> list[list[_Node]]:
    """The columns: a node stands behind all that it comes after, but for what goes in a circle."""

    def odd(node: _Node) -> bool:
        return node.step is not None and bool(node.step.odds)

    for _ in nodes:
        changed = False
        for node in nodes.values():
            earlier = [nodes[one] for one, _ in node.earlier]
            rank = max((one.rank + 1 for one in earlier if not (odd(one) and odd(node))), default=0)
            changed, node.rank = changed or rank != node.rank, rank
        if not changed:
            break
    columns: dict[int, list[_Node]] = defaultdict(list)
    for node in nodes.values():
        if node.step is None:  # beside those that read it
            later = [other.rank for other in nodes.values() if any(one == node.name for one, _ in other.earlier)]
            node.rank = max(0, min(later, default=1) - 1)
        columns[node.rank].append(node)
    return [columns[rank] for rank in sorted(columns)]


def _settle(columns: list[list[_Node]], nodes: dict[str, _Node]) -> None:
    """Put what belongs together at one height: the mean of the neighbours, a few times over (barycentres)."""
    later: dict[str, list[str]] = defaultdict(list)
    for node in nodes.values():
        for one, _ in node.earlier:
            later[one].append(node.name)
    for column in columns:
        for at, node in enumerate(column):
            node.place = float(at)
    for turn in range(6):
        for column in columns if turn % 2 == 0 else reversed(columns):

            def key(node: _Node, forward: bool = turn % 2 == 0) -> float:
                beside = [one for one, _ in node.earlier] if forward else later[node.name]
                return sum(nodes[one].place for one in beside) / len(beside) if beside else node.place

            column.sort(key=key)
            for at, node in enumerate(column):
                node.place = float(at) - len(column) / 2


def _place(columns: list[list[_Node]], is_full: bool) -> tuple[float, float]:
    """Give each box its place; the width and height of all."""
    gap, between = (18.0, 70.0) if is_full else (7.0, 46.0)
    x, top, tallest = 24.0, 56.0, 0.0
    heights = []
    for column in columns:
        for node in column:
            node.height = sum(size + 5 for _, size, _, _, _ in node.lines) + 12
            widest = max(
                len(text) * size * (0.62 if mono or bold else 0.56) for text, size, _, bold, mono in node.lines
            )
            node.width = max(90.0 if is_full else 70.0, widest + 22)
        heights.append(sum(node.height + gap for node in column) - gap)
        tallest = max(tallest, heights[-1])
    for column, height in zip(columns, heights, strict=True):
        y, width = top + (tallest - height) / 2, max(node.width for node in column)
        for node in column:
            node.x, node.y, node.width = x, y, width
            y += node.height + gap
        x += width + between
    return x - between + 24, top + tallest + 52


def _edges(nodes: dict[str, _Node]) -> list[dict[str, Any]]:
    found = []
    for node in nodes.values():
        for name, is_read in node.earlier:
            source = nodes[name]
            x1, y1 = source.x + source.width, source.y + source.height / 2
            x2, y2 = node.x - 7, node.y + node.height / 2
            bend = max(24.0, (x2 - x1) / 2)
            # One that passes other columns goes below what stands there.
            sag = 0.75 * max(source.height, node.height) if node.rank - source.rank > 1 else 0.0
            start, end = f"{x1 + bend:.1f} {y1 + sag:.1f}", f"{x2 - bend:.1f} {y2 + sag:.1f}"
            found.append(
                {
                    "path": f"M{x1:.1f} {y1:.1f} C{start} {end} {x2:.1f} {y2:.1f}",
                    "head": f"M{x2:.1f} {y2 - 4:.1f} l7 4 l-7 4 z",
                    "colour": _LINE,
                    "thick": 1.2,
                    "dashes": "" if is_read else "3 3",
                }
            )
    return found


def _svg(graph: Graph, why: Mapping[str, Sequence[str]], about: str, *, links: bool) -> str:
    nodes = _nodes(graph, why)
    columns = _ranked(nodes)
    _settle(columns, nodes)
    is_full = sum(node.step is not None for node in nodes.values()) <= _FULL
    width, height = _place(columns, is_full) if nodes else (480.0, 110.0)
    label = _label(graph, about)
    standings = [one for one in Standing if any(step.standing is one for step in graph.steps.values())]
    legend, x = [], 24.0
    for text, look in [*((str(one), _LOOKS[one]) for one in standings), ("raw data", _RAW)]:
        legend.append({"x": x, "y": height - 32, "fill": look.fill, "stroke": look.stroke, "dashes": look.dashes,
                       "text": text})  # fmt: skip
        x += 44 + 7 * len(text)
    names = list(graph.steps)
    boxes = [_box(node, f"step-{names.index(node.name)}" if links and node.step else "") for node in nodes.values()]
    width = max(width, x + 10, 48 + 8.6 * len(label))
    return pages.render(
        "steps_drawing.svg",
        width=round(width),
        height=round(height),
        label=label,
        edges=_edges(nodes),
        boxes=boxes,
        legend=legend,
    )


def _box(node: _Node, link: str) -> dict[str, Any]:
    lines, y = [], node.y + 6
    for text, size, colour, bold, mono in node.lines:
        y += size + 5
        ink = "#ffffff" if node.step and node.step.standing is Standing.FAILED else colour
        lines.append({"text": text, "y": round(y - 2, 1), "size": size, "colour": ink, "bold": bold, "mono": mono})
    look = node.look
    return {
        "x": round(node.x, 1),
        "y": round(node.y, 1),
        "width": round(node.width, 1),
        "height": round(node.height, 1),
        "round": 6 if node.step else 12,
        "fill": look.fill,
        "stroke": look.stroke,
        "thick": look.thick,
        "dashes": look.dashes,
        "left": 11,
        "lines": lines,
        "link": link,
    }


_MANNERS = {Standing.UP_TO_DATE: "good", Standing.FAILED: "bad", Standing.AT_ODDS: "bad"}


def _page(graph: Graph, drawing: str, why: Mapping[str, Sequence[str]], about: str) -> str:
    from markupsafe import Markup

    steps = []
    for number, (name, step) in enumerate(graph.steps.items()):
        analysis = step.analysis
        told = [("command", shlex.join(step.command)), ("comes after", ", ".join(step.after) or "nothing")]
        if analysis:
            told += [
                ("sources", ", ".join(one.path for one in analysis.source) or "none"),
                ("inputs", ", ".join(one.path for one in analysis.input) or "none"),
                ("results", ", ".join(one.path for one in analysis.result) or "none"),
                ("snapshot", analysis.snapshot),
            ]
        steps.append(
            {
                "link": f"step-{number}",
                "name": name,
                "standing": str(step.standing),
                "manner": _MANNERS.get(step.standing, "warn"),
                "why": list(why.get(name, ())),
                "told": told,
            }
        )
    return pages.render("steps", label=_label(graph, about), drawing=Markup(drawing), steps=steps)
