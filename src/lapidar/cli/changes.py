"""``lapidar changes``"""

from __future__ import annotations

import argparse
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING

from lapidar.cli.main import Session, add_exit_code_option, add_language_option
from lapidar.cli.view import View, human_count

if TYPE_CHECKING:
    from lapidar.core.changes.files import FileChange
    from lapidar.core.changes.influence import Weight
    from lapidar.core.flows.changes import Changes, FilesChanged
    from lapidar.core.records.difference import Change
    from lapidar.core.records.owner import PackageName
    from lapidar.core.records.snapshot import Snapshot

DESCRIPTION = """\
Show what is different between two snapshots, layer by layer, what most likely alters results first, and why. A
snapshot is named by the first digits of its identity (`lapidar history`), by the path of a lockfile, as REVISION: for
the lockfile of a revision of git, or by the folder of an environment, which is looked at as it is now. Without any: the
project's own against the one before it; of a lockfile with an unfinished merge in it, the two sides."""

EXAMPLES = """\
examples:
  lapidar changes
  lapidar changes 3fe0a1                      from that one to the project's own
  lapidar changes main: HEAD:
  lapidar changes lapidar.lock .venv          what a capture would change
  lapidar changes 3fe0a1 77bc02 -v            also the files that differ
  lapidar changes --files sherdstats          the lines that differ in a package's source"""

_FILES = 8
_LINES = 400
_NEWS = 40  # of a change log


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("one", nargs="?", metavar="A", help="a snapshot, or an environment")
    parser.add_argument("other", nargs="?", metavar="B", help="another (default: the project's own)")
    parser.add_argument("--files", metavar="PACKAGE", help="show the lines that differ in the files of this package")
    parser.add_argument("--all", action="store_true", help="show all lines and files, however many they are")
    add_language_option(parser, several=False)
    add_exit_code_option(parser, "something is different")


def run(session: Session) -> int:
    from lapidar.core.flows.changes import changes, files_of

    options, view, cache = session.options, session.view, session.cache()
    found = changes(session.place, cache, options.one, options.other, with_files=view.verbose)
    if options.files:
        told = files_of(cache, found, options.files, options.language or "")
        if view.json:
            view.object([{"file": one.path, "kind": one.kind, "lines": lines} for one, lines in told])
        else:
            _show_files(told, view, None if options.all else _LINES)
        return session.told(bool(told))
    if view.json:
        view.object(_object(found))
    else:
        _show(found, view, options.all)
    return session.told(bool(found.changes))


def _show(found: Changes, view: View, every: bool) -> None:
    from lapidar.core.records import words

    if not found.changes:
        view.line(f"Nothing is different between {found.called[0]} and {found.called[1]}.", "good")
        return
    view.note(f"From {found.called[0]} to {found.called[1]}:")
    names = words.names_in(found.before, found.after)
    show_rows(rows_of(found.changes, names), view)
    for files in found.files:
        _show_between(files, names, view, every)


def rows_of(changes: Iterable[tuple[Change, Weight]], names: Mapping[PackageName, str]) -> list[list[str]]:
    """A row of a table for each change."""
    from lapidar.core.records import words

    return [
        [
            words.change_kind(change),
            words.changed_thing(change, names),
            change.old or "-",
            change.new or "-",
            weight.reason,
        ]
        for change, weight in changes
    ]


def show_difference(before: Snapshot | None, after: Snapshot, view: View) -> None:
    """A table of what is different between two snapshots; nothing where nothing is, or there is no first."""
    from lapidar.core.flows.history import changes_between
    from lapidar.core.records import words

    if before and (found := changes_between(before, after)):
        show_rows(rows_of(found, words.names_in(before, after)), view)


def show_rows(rows: list[list[str]], view: View, of: str = "what") -> None:
    """A table of changes; without the column of reasons where there are none."""
    heads = ["change", of, "from", "to", "why it may matter"]
    if not any(row[-1] for row in rows):
        heads, rows = heads[:-1], [row[:-1] for row in rows]
    view.table(heads, rows)


def _show_between(files: FilesChanged, names: Mapping[PackageName, str], view: View, every: bool) -> None:
    from lapidar.core.records import words

    if not (files.changed or files.described or files.lost or files.news):
        return
    view.line()
    view.line(words.change_in_short(files.change, names), "heading")
    if files.lost:
        view.line(f"  {files.lost}")
    shown = files.changed if every else files.changed[:_FILES]
    for one in shown:
        view.line(f"  {one.kind:8} {one.path}")
    if len(files.changed) > len(shown):
        view.line(f"  and {human_count(len(files.changed) - len(shown), 'file')} more (--all)")
    if files.described and not files.changed:
        view.line("  only what describes it")
    for line in files.news if every else files.news[:_NEWS]:
        view.line(f"  | {line}")
    if len(files.news) > _NEWS and not every:
        view.line(f"  and {human_count(len(files.news) - _NEWS, 'more line')} of its own change log (--all)")


def _show_files(told: list[tuple[FileChange, list[str] | None]], view: View, most: int | None) -> None:
    """The lines that differ.

    Args:
        most: how many are shown; the files after these are summed up.
    """
    left, summed = most or sum(len(lines or ()) for _, lines in told), []
    for one, lines in told:
        if lines is None:
            view.line(f"{one.kind}: {one.path} (no text)", "heading")
            continue
        if left <= 0:
            summed.append((one, lines))
            continue
        for line in lines[:left]:
            style = {"+": "good", "-": "bad"}.get(line[:1], "")
            view.line(line, "heading" if line.startswith(("+++", "---")) else style)
        if len(lines) > left:
            view.line(f"and {human_count(len(lines) - left, 'more line')} of {one.path}")
        left -= len(lines)
    if summed:
        new, gone = (sum(line.startswith(sign) for _, lines in summed for line in lines) for sign in "+-")
        view.line(f"and {human_count(len(summed), 'more file')}, with {new:,} lines new and {gone:,} gone (--all)")
    if not told:
        view.line("No file of it differs.")


def _object(found: Changes) -> dict[str, object]:
    return {
        "before": found.before.snapshot,
        "after": found.after.snapshot,
        "changes": [
            {
                "layer": change.owner.layer,
                "language": change.owner.language or None,
                "name": change.owner.name,
                "kind": change.kind,
                "from": change.old or None,
                "to": change.new or None,
                "fields": change.fields,
                "reason": weight.reason or None,
            }
            for change, weight in found.changes
        ],
        "files": [
            {
                "layer": one.change.owner.layer,
                "language": one.change.owner.language or None,
                "name": one.change.owner.name,
                "changed": [{"path": file.path, "kind": file.kind} for file in one.changed],
                "described": one.described,
                "lost": one.lost or None,
                "news": one.news,
            }
            for one in found.files
        ],
    }
