"""``lapidar cache``"""

from __future__ import annotations

import argparse
import time
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_bytes, human_count, human_path, human_seconds
from lapidar.core.errors import LapidarError

if TYPE_CHECKING:
    from pathlib import Path

    from lapidar.core.cache.auditing import Audit
    from lapidar.core.cache.pruning import Pruned
    from lapidar.core.cache.summary import Summary
    from lapidar.core.records.owner import Owner

DESCRIPTION = """\
Look after the package cache.
  summary   what it holds, and the history of snapshots
  audit     read everything again, mend what can be mended, set the rest that is bad aside; exit code 1 where there was
            any
  prune     remove what no snapshot of the history and no known project needs; nothing as long as any of that cannot
            be read
  holds     tell which snapshots and projects have a package, a library or a file, as after a security notice
  forget    take the bytes of a file out for good, and say which analyses cannot be run again without it"""

EXAMPLES = """\
examples:
  lapidar cache summary
  lapidar cache audit
  lapidar cache prune --dry-run
  lapidar cache prune --history-days 365    keep a year of history: drop snapshots captured before
  lapidar cache holds 'urllib3<2.2'         who has such a version
  lapidar cache holds libssl.so.3
  lapidar cache forget private/people.csv   its bytes must not be kept
  lapidar cache prune --give-up 3fe0a1      drop a snapshot whose project is gone for good"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", choices=["summary", "audit", "prune", "holds", "forget"])
    parser.add_argument(
        "what",
        nargs="?",
        metavar="WHAT",
        help="forget: the file, or its digest, whose bytes are to go; holds: a name, with a range of versions or "
        "without, or a digest",
    )
    parser.add_argument("--dry-run", action="store_true", help="prune: only tell what would be removed")
    parser.add_argument(
        "--history-days",
        metavar="DAYS",
        type=float,
        help="prune: drop snapshots captured longer ago, unless a known project's lockfile holds them",
    )
    parser.add_argument(
        "--give-up",
        metavar="SNAPSHOT",
        action="append",
        default=[],
        help="prune: drop this snapshot (the first digits of its identity), also where its project, or what is needed "
        "of it, cannot be found",
    )


def run(session: Session) -> int:
    actions = {"summary": _summary, "audit": _audit, "prune": _prune, "holds": _holds, "forget": _forget}
    action = session.options.action
    if (session.options.what is not None) != (action in ("forget", "holds")):
        raise LapidarError(
            "`forget` takes a file or a digest, `holds` a name or a digest, and the others take nothing",
            remedy=f"lapidar cache {'holds NAME' if action == 'holds' else 'forget FILE'}",
        )
    return actions[session.options.action](session)


def _forget(session: Session) -> int:
    from lapidar.core.cache.forgetting import forget

    view = session.view
    found = forget(session.cache(), session.options.what)
    if view.json:
        view.object(found)
        return ExitCode.DONE
    there = "are out of the cache, and" if found.was_there else "were not in the cache;"
    view.line(f"The bytes {found.sha256[:12]} {there} no record will keep them again.")
    for name in found.analyses:
        view.line(f"  {name}: cannot be run again, unless the file lies in the project", "warn")
    return ExitCode.DONE


def _holds(session: Session) -> int:
    from lapidar.core.flows.holding import holders
    from lapidar.core.records.words import short

    view, asked = session.view, session.options.what
    found = holders(session.cache(), asked)
    if view.json:
        view.object(found)
        return ExitCode.DONE
    if not found:
        view.line(f"No snapshot that this cache knows has {asked}.")
        return ExitCode.DONE
    rows = [
        [
            short(one.snapshot),
            one.what,
            f"{one.current} of {len(one.lockfiles)}",
            human_path(one.lockfiles[0]) if one.lockfiles else "",
        ]
        for one in found
    ]
    view.table(["snapshot", "has", "lockfiles that hold it now", "lockfile"], rows, right=(2,))
    return ExitCode.DONE


def _summary(session: Session) -> int:
    from lapidar.core.cache.summary import summary

    view, cache = session.view, session.cache()
    found = summary(cache)
    if view.json:
        view.object(_summary_object(found, cache.root))
        return ExitCode.DONE
    view.line(f"Cache      {human_path(cache.root)}")
    view.line(
        f"Holds      {human_count(found.files, 'file')}, {human_bytes(found.bytes)}, "
        f"in {human_count(found.trees, 'tree')}, {found.derived} of them byte-code"
    )
    view.line(f"Stands for {human_bytes(found.stands_for)} in {human_count(len(found.snapshots), 'snapshot')}")
    if found.set_aside:
        view.line(f"Set aside  {human_count(found.set_aside, 'bad entry', 'bad entries')}", "warn")
    view.line()
    rows = [
        [
            kept.snapshot.removeprefix("sha256:")[:12],
            time.strftime("%Y-%m-%d %H:%M", time.localtime(kept.time)),
            "current" if kept.current else "history",
            *((human_bytes(size.bytes), human_bytes(size.own)) if (size := found.sizes.get(kept.snapshot)) else "--"),
            human_path(kept.lockfile),
        ]
        for kept in found.snapshots
    ]
    view.table(["snapshot", "captured", "kept as", "size", "only it has", "lockfile"], rows, right=(3, 4))
    if found.projects:
        view.line()
        rows = [
            [
                human_path(one.folder),
                str(one.snapshots),
                human_bytes(one.stands_for),
                human_bytes(one.environment),
                human_bytes(one.reruns),
            ]
            for one in found.projects
        ]
        heads = ["project", "snapshots", "size", "its environment takes", "its reruns take"]
        view.table(heads, rows, right=(1, 2, 3, 4))
        view.note("What is linked from the cache takes nothing besides. `rm -r .lapidar/reruns` gives reruns back.")
    return ExitCode.DONE


def _summary_object(found: Summary, root: Path) -> dict[str, object]:
    return {
        "cache": str(root),
        "files": found.files,
        "bytes": found.bytes,
        "trees": found.trees,
        "bytecode": found.derived,
        "set_aside": found.set_aside,
        "stands_for": found.stands_for,
        "snapshots": found.snapshots,
        "sizes": found.sizes,
        "projects": found.projects,
    }


def _by_owner(found: Mapping[Owner | None, Sequence[str]]) -> list[dict[str, object]]:
    """Paths, each with whose they are; nulls where nobody knows."""
    rows = []
    for owner, paths in found.items():
        fields = ("layer", "language", "name", "version")
        rows.append({**{field: getattr(owner, field, None) or None for field in fields}, "paths": paths})
    return rows


def _whose(owner: Owner | None, otherwise: str = "byte-code, or of no snapshot") -> str:
    """Whose bad entries are, for people."""
    from lapidar.core.records import words

    return words.owner(owner) if owner else otherwise


def _audit(session: Session) -> int:
    from lapidar.core.cache.auditing import audit

    began = time.monotonic()
    view, cache = session.view, session.cache()
    found = audit(cache, view.reporter())
    if view.json:
        view.object(
            {
                "files": found.files,
                "bytes": found.bytes,
                "clean": found.clean,
                "corrupt": _by_owner(found.corrupt),
                "missing": _by_owner(found.missing),
                "bad_snapshots": found.bad_snapshots,
                "unreadable": found.unreadable,
                "mended": found.mended,
                "unknown": found.unknown,
                "bad_trees": [_whose(owner, digest) for digest, owner in found.bad_trees.items()],
            }
        )
        return ExitCode.DONE if found.clean else ExitCode.NO
    read = (
        f"{human_count(found.files, 'file')}, {human_bytes(found.bytes)} read in "
        f"{human_seconds(time.monotonic() - began)}"
    )
    _show_audit(session, found, read)
    return ExitCode.DONE if found.clean else ExitCode.NO


def _show_audit(session: Session, found: Audit, read: str) -> None:
    view = session.view
    for problem, by_owner in (("corrupt", found.corrupt), ("missing", found.missing)):
        for owner, paths in by_owner.items():
            shown = paths if view.verbose else paths[:3]
            more = f", and {len(paths) - len(shown)} more" if len(paths) > len(shown) else ""
            view.line(f"{_whose(owner)}: {human_count(len(paths), 'file')} {problem}: {', '.join(shown)}{more}")
    for digest, owner in found.bad_trees.items():
        view.line(f"{_whose(owner, digest)}: its listing is corrupt, or missing")
    for snapshot, why in found.bad_snapshots.items():
        view.line(f"snapshot {snapshot.removeprefix('sha256:')[:24]}: {why}")
    for path, why in found.unreadable.items():
        view.line(f"{human_path(path)} cannot be read now: {why}; it was left where it is")
    for told in found.mended:
        view.line(f"Mended {told}")
    for path in found.unknown:
        view.warn(f"{human_path(path)} is nothing of the cache's; it was left alone")
    if found.clean:
        view.line(f"The cache is sound: {read}.", "good")
    elif not found.lossy:
        view.line(f"What was bad is mended; {read}.", "warn")
    else:
        view.line(f"Bad entries were set aside; {read}.", "bad")
        view.line("  next: capture the original environments again, to stow them anew")


def _prune(session: Session) -> int:
    from lapidar.core.cache.pruning import PruneOptions, prune
    from lapidar.core.flows.pruning import Environments

    view, cache = session.view, session.cache()

    def announce(plan: Pruned) -> None:
        if plan.nothing:
            for snapshot, why in plan.unknown.items():
                view.line(f"Keeping snapshot {snapshot.removeprefix('sha256:')[:12]}: {why}")
            view.line("There is nothing to prune: some snapshot or project needs everything in the cache.")
            return
        verb = "Would remove" if plan.dry_run else "Removing"
        view.line(
            f"{verb} {human_count(plan.files, 'file')}, {human_bytes(plan.bytes)}, "
            f"in {human_count(plan.trees, 'tree')} that nothing needs."
        )
        for snapshot in plan.dropped:
            view.line(
                f"  {'would drop' if plan.dry_run else 'dropping'} snapshot {snapshot.removeprefix('sha256:')[:12]}"
            )
        for snapshot, why in plan.unknown.items():
            view.line(f"  keeping snapshot {snapshot.removeprefix('sha256:')[:12]}: {why}")
        for script in plan.scripts:
            view.line(f"  {'would forget' if plan.dry_run else 'forgetting'} the script {script}, which is gone")
        if plan.environments:
            told = "would remove" if plan.dry_run else "removing"
            view.line(f"  {told} {human_count(plan.environments, 'environment')} of scripts, asides and calls")
        if plan.set_aside:
            view.line(f"  and {human_count(plan.set_aside, 'bad entry', 'bad entries')} set aside before")

    options = session.options
    plan = prune(
        cache,
        PruneOptions(history_days=options.history_days, give_up=options.give_up, dry_run=options.dry_run),
        waiting=lambda: view.warn("waiting for another lapidar that uses this cache"),
        announce=announce,
        environments=Environments(cache),
    )
    if view.json:
        view.object(plan)
    elif not plan.nothing and not plan.dry_run:
        view.line(f"Freed {human_bytes(plan.bytes)}.", "good")
    return ExitCode.DONE
