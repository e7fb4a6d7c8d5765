"""``lapidar restore``"""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Sequence
from typing import TYPE_CHECKING

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session, add_snapshot_options
from lapidar.cli.view import View, human_bytes, human_count, human_path, human_seconds

if TYPE_CHECKING:
    from lapidar.core.flows.restore import Restored
    from lapidar.core.parcels.parcel import Parcel
    from lapidar.core.records.snapshot import Snapshot

DESCRIPTION = """\
Build the environment of a lockfile from the cache alone; no network is used, but with --fetch, and then only the
indexes that you configured. It is built beside its place and
put there in one step, so an older environment stays whole until the new one is. The folder can be moved."""

EXAMPLES = """\
examples:
  lapidar restore
  lapidar restore --into /tmp/again --placement copy
  lapidar restore --leave-out report
  lapidar restore --fetch
  lapidar restore --from kilns.parcel.tar
  lapidar restore --near --from /shared/kilns.parcel.tar
  lapidar restore --libraries host
  lapidar restore --snapshot 5f1c2a        from the history, by the beginning of its identity"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--into", metavar="DIR", help="the folder to make (default: PROJECT/.lapidar/env)")
    parser.add_argument(
        "--placement",
        choices=["auto", "share", "link", "copy"],
        default="auto",
        help="how files get there; share: copies that share their blocks until one is written to, where the file "
        "system can; link: hard links, an edit through one damages the cache; auto: share, else link, else copy",
    )
    add_snapshot_options(parser)
    parser.add_argument(
        "--replace", action="store_true", help="where another project's lockfile is to replace an environment: do"
    )
    groups = parser.add_mutually_exclusive_group()
    groups.add_argument("--group", action="append", metavar="G", help="of the groups only this one (may be repeated)")
    groups.add_argument("--leave-out", action="append", metavar="G", help="all groups but this one (may be repeated)")
    parser.add_argument(
        "--near",
        metavar="DIR",
        nargs="?",
        const="",
        help="into a folder of this node (without DIR: LAPIDAR_NEAR, else that for temporary files), once for all "
        "processes of a user; `run --near` and `run --from` use that of LAPIDAR_NEAR",
    )
    parser.add_argument(
        "--from",
        dest="source",
        metavar="FILE|ADDRESS",
        help="take what the cache lacks out of a parcel, or a store",
    )
    parser.add_argument(
        "--fetch", action="store_true", help="fetch what the cache lacks, each from the origin that the lockfile names"
    )
    parser.add_argument(
        "--libraries",
        choices=["auto", "private", "host"],
        default="auto",
        help="whose system libraries it runs with; private: the snapshot's, and nothing of the host's; host: the "
        "host's, if they satisfy all that is recorded; auto: private where the snapshot has them",
    )
    parser.add_argument("--dry-run", action="store_true", help="show what would be done, and do nothing")
    parser.add_argument(
        "--kept",
        action="store_true",
        help="packages of the project's own as they were built for the snapshot, and not linked to their sources",
    )
    parser.add_argument("--verify", action="store_true", help="read every byte in the cache before anything is placed")


def run(session: Session) -> int:
    from lapidar.core.cache.placing import Placement
    from lapidar.core.environment.marker import WhoseLibraries
    from lapidar.core.flows.choose import read_snapshot
    from lapidar.core.flows.restore import RestoreOptions, restore
    from lapidar.core.records import selection

    options, view = session.options, session.view
    if options.near is not None:
        return _near(session)
    brings = options.fetch or options.source
    place, cache = session.place, session.cache(create=brings and not options.dry_run)
    stores = _stores(session)
    snapshot = _without_lockfile(session, stores) or read_snapshot(place, cache, session.path("lock"), options.snapshot)
    left_out = selection.left_out(snapshot, options.group, options.leave_out or ())
    wanted = RestoreOptions(
        into=session.path("into"),
        placement=Placement(options.placement),
        left_out=left_out,
        libraries=WhoseLibraries(options.libraries),
        verify=options.verify,
        kept=options.kept,
        lockfile=None if options.snapshot else session.path("lock") or place.lockfile,
        chosen=_chosen(session),
        replace=options.replace or _is_meant(session),
        dry_run=options.dry_run,
    )
    with cache.in_use():  # what is fetched is not pruned before it is placed
        if brings and not options.dry_run:
            _bring(session, selection.without(snapshot, left_out), stores)
        restored = restore(place, cache, snapshot, wanted, view.reporter())
    if view.json:
        view.object(
            {
                "environment": str(restored.environment),
                "snapshot": restored.snapshot.snapshot,
                "groups_left_out": left_out,
                "placement": restored.placement,
                "libraries": restored.libraries,
                "files": restored.files,
                "bytes": restored.bytes,
                "already": restored.already,
                "replaced": restored.replaced,
                "lacking": restored.lacking,
                "warnings": restored.warnings,
                "seconds": round(restored.seconds, 3),
            }
        )
        return ExitCode.DONE
    shown = human_path(restored.environment)
    if left_out:
        view.note(f"Without the groups: {', '.join(left_out)}")
    for warning in restored.warnings:
        view.warn(warning)
    if options.dry_run:
        _show_dry(restored, view)
        return ExitCode.DONE
    if restored.already:
        view.line(f"{shown} already matches the snapshot; nothing was done.", "good")
        return ExitCode.DONE
    if restored.compiled:
        view.note(f"Compiled the byte-code of {human_count(restored.compiled, 'tree')}; the cache keeps it.")
    whose = "its own system libraries" if restored.libraries == "private" else "the host's system libraries"
    way = {"link": "hard-linked", "share": "with shared blocks", "copy": "copied"}[restored.placement]
    view.line(
        f"{'Replaced' if restored.replaced else 'Restored'} {shown}: {human_count(restored.files, 'file')}, "
        f"{human_bytes(restored.bytes)}, {way}, in {human_seconds(restored.seconds)}",
        "good",
    )
    view.note(f"It runs with {whose}.")
    if not options.into:
        view.note("Use it with: lapidar run COMMAND")
    return ExitCode.DONE


def _chosen(session: Session) -> str:
    """How another snapshot than that of the project's lockfile was asked for; "" where none was."""
    if session.options.snapshot:
        return f"--snapshot {session.options.snapshot}"
    lock = session.path("lock")
    return f"--lock {lock.name}" if lock and lock.resolve() != session.place.lockfile.resolve() else ""


def _is_meant(session: Session) -> bool:
    """Whether the user, where there is one, wants another project's lockfile in place of an environment."""
    from lapidar.core.flows.restore import would_replace

    target = session.path("into") or session.place.environment
    lock = session.path("lock")
    return would_replace(session.place, lock, target) and session.view.asks(
        f"Replace {human_path(target)} by the environment of another project's lockfile?"
    )


def _show_dry(restored: Restored, view: View) -> None:
    shown = human_path(restored.environment)
    if restored.already:
        view.line(f"{shown} matches the snapshot: there is nothing to do.", "good")
        return
    for part in restored.lacking:
        view.line(f"  not in the cache: {part}", "warn")
    if restored.lacking:
        view.line(f"{human_count(len(restored.lacking), 'part')} would have to be fetched first: --fetch.")
    verb = "replace" if restored.replaced else "make"
    size = f"{human_count(restored.files, 'file')}, {human_bytes(restored.bytes)}"
    view.line(f"Would {verb} {shown}: {size}, and byte-code. Nothing was changed (--dry-run).")


def _stores(session: Session) -> list[Parcel]:
    """The parcel that is named, if one is."""
    if not session.options.source:
        return []
    from lapidar.core.flows.parcel import opened_at
    from lapidar.core.records.lockfile import identity_in
    from lapidar.core.records.words import short

    lock = session.path("lock") or session.place.lockfile
    return [opened_at(session.options.source, short(identity_in(lock)))]


def _without_lockfile(session: Session, stores: Sequence[Parcel]) -> Snapshot | None:
    """The snapshot of a parcel, where nothing else says which one is meant."""
    options = session.options
    if not stores or options.lock or options.snapshot or session.place.lockfile.exists():
        return None
    return stores[0].snapshot


def _bring(session: Session, snapshot: Snapshot, stores: Sequence[Parcel]) -> None:
    from lapidar.cli.stores import agreed_stores
    from lapidar.core.cache.contents import lacking
    from lapidar.core.records.words import short
    from lapidar.core.restored import sources

    cache, reporter = session.cache(), session.view.reporter()
    if not session.options.fetch:
        from lapidar.core.flows.parcel import bring_trees

        trees = [part.tree for part in snapshot.parts()]
        if brought := bring_trees(stores[0], cache, trees, reporter):
            session.view.note(f"Took {human_count(brought, 'tree')} out of {stores[0].called}.")
        return
    # Where nothing is lacking nobody is asked.
    others = agreed_stores(session, short(snapshot.snapshot)) if lacking(cache, snapshot) else []
    fetched = sources.bring(session.place, cache, snapshot, reporter, [*stores, *others])
    for sentence in fetched.notes:
        session.view.warn(sentence)
    if fetched.packages:
        session.view.note(f"Fetched {human_count(len(fetched.packages), 'package')}: {', '.join(fetched.packages)}")


def _near(session: Session) -> int:
    """Into a folder of this node, out of a parcel or out of the cache."""
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows.near import Near, near_folder, placed

    options, view = session.options, session.view
    if options.into or options.snapshot or options.lock:
        raise LapidarError(
            "--near takes the project's lockfile, or what --from names", remedy="lapidar restore --near --from FILE"
        )
    near = Near(near_folder(session.path("near")))
    found = placed(near, session.place, options.source, session.cache, view.reporter())
    if view.json:
        view.object({"environment": str(found)})
        return ExitCode.DONE
    view.line(f"On this node: {human_path(found)}", "good")
    where = f"LAPIDAR_NEAR={shlex.quote(str(session.path('near')))} " if options.near else ""
    how = f"--from {shlex.quote(options.source)}" if options.source else "--near"
    view.note(f"Use it with: {where}lapidar run {how} COMMAND")
    return ExitCode.DONE
