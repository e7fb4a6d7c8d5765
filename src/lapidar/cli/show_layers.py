"""What ``lapidar show`` tells of the layers below the packages: libraries, tools, conditions."""

from __future__ import annotations

from lapidar.cli.view import View, human_bytes, human_count
from lapidar.core.errors import LapidarError
from lapidar.core.records import words
from lapidar.core.records.snapshot import Library, Snapshot

__all__ = ["conditions", "libraries", "library", "pairs", "summary", "tools"]

_SHOWN = 3


def pairs(rows: list[list[str]], view: View) -> None:
    """Names and values, one a line."""
    width = max(len(row[0]) for row in rows)
    for name, value in rows:
        view.line(f"{name.ljust(width)}  {value}")


def summary(snapshot: Snapshot, view: View) -> None:
    """A line a layer."""
    if layer := snapshot.library_layer:
        data = layer.files - len(snapshot.libraries)
        view.line(
            f"Libraries  {len(snapshot.libraries)} of the system and {human_count(data, 'file')} that they open, "
            f"{human_bytes(layer.bytes)}"
        )
    if snapshot.tools:
        view.line(f"Tools      {', '.join(tool.name for tool in snapshot.tools)}")
    if held := snapshot.conditions:
        profile = f"{held.numerics}, {held.baseline}" if held.baseline else held.numerics
        view.line(f"Conditions numerics {profile}; {held.processor}; {held.kernel}")


def _users(library: Library, view: View) -> str:
    users = [words.user(one) for one in library.users]
    more = len(users) - _SHOWN
    return ", ".join(users) if view.verbose or more <= 0 else f"{', '.join(users[:_SHOWN])} and {more} more"


def libraries(snapshot: Snapshot, view: View) -> None:
    """All libraries."""
    if not snapshot.libraries:
        view.line("The snapshot holds no system libraries: its environment runs with the host's.")
        return
    rows = [
        [
            library.soname,
            human_bytes(library.bytes),
            f"{library.owner} {library.owner_version}" if library.owner else "-",
            _users(library, view),
        ]
        for library in snapshot.libraries
    ]
    view.table(["library", "size", "owner", "used by"], rows, right=(1,))


def library(snapshot: Snapshot, name: str, view: View) -> Library:
    """One library in full.

    Raises:
        LapidarError: the snapshot has none of that name.
    """
    found = next((one for one in snapshot.libraries if one.soname in (name, f"lib{name}")), None)
    if found is None:
        from lapidar.core import spelling

        near = [one.soname for one in snapshot.libraries if name.lower() in one.soname.lower()][:_SHOWN]
        raise LapidarError(
            f"The snapshot has no library {name!r}",
            remedy=spelling.hint(near, "`lapidar show libraries` lists what it has."),
        )
    if not view.json:
        rows = [
            ["library", found.soname],
            [
                "owner",
                f"{found.owner} {found.owner_version}" if found.owner else "none that this system knows",
            ],
            ["used by", ", ".join(map(words.user, found.users))],
            ["versions", ", ".join(found.versions) or "none are asked for"],
            ["sha256", found.sha256],
            ["size", human_bytes(found.bytes)],
        ]
        pairs(rows, view)
    return found


def tools(snapshot: Snapshot, view: View) -> None:
    """All outside programs."""
    if not snapshot.tools:
        view.line("The snapshot holds no outside programs.")
        return
    rows = [
        [
            tool.name,
            f"{tool.owner} {tool.owner_version}" if tool.owner else "-",
            f"/{tool.executable}" + (f", run by /{tool.interpreter}" if tool.interpreter else ""),
            f"{tool.files:,}",
            human_bytes(tool.bytes),
        ]
        for tool in snapshot.tools
    ]
    view.table(["tool", "owner", "executable", "files", "size"], rows, right=(3, 4))


def conditions(snapshot: Snapshot, view: View) -> None:
    """What a run is held to."""
    held = snapshot.conditions
    if held is None:
        view.line("The snapshot holds no conditions.")
        return
    rows = [
        ["numerics", f"{held.numerics}, held to {held.baseline}" if held.baseline else held.numerics],
        ["processor", held.processor],
        ["instructions", " ".join(held.features)],
        ["kernel", held.kernel],
        ["umask", held.umask or "-"],
    ]
    rows += [["variable", f"{name}={value}"] for name, value in held.variables.items()]
    rows += [["secret", f"{name} (its value is never kept)"] for name in held.secrets]
    rows += [["read at a run", held.env_file]] if held.env_file else []
    rows += [["of the host", one] for one in held.host]
    pairs(rows, view)
