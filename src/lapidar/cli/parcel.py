"""``lapidar parcel``"""

from __future__ import annotations

import argparse
import os
import shlex
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec.structs import replace

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session, add_snapshot_options
from lapidar.cli.view import human_bytes, human_count, human_path, typed_path
from lapidar.core.errors import LapidarError
from lapidar.core.records import words

if TYPE_CHECKING:
    from lapidar.core.cache.store import Cache
    from lapidar.core.flows.forgetting import Unneeded
    from lapidar.core.flows.parcel import Gathered
    from lapidar.core.parcels.form import Descriptor
    from lapidar.core.parcels.leasing import Lease
    from lapidar.core.parcels.parcel import Parcel
    from lapidar.core.records.snapshot import Snapshot

_MOST_DAYS = 36_500

DESCRIPTION = """\
One file with all that restoring needs, for a machine that has no network: the lockfile and every byte it stands for;
with --with-results the records of results, their inputs and results; with --with-project the project's own files.
  make      write one, of the project's lockfile
  open      bring all of one into the cache, and put lockfile, records and project into a folder
  show      what is in one
  verify    read every byte of one; exit code 1 where anything is damaged
  send      bring one to a store: a folder, or a registry (OCI distribution), only what that lacks
  fetch     bring what a store has of this project's lockfile into the cache; with --into all of a parcel, as open does
  list      what a store holds
  forget    have a store forget parcels that no project has a lease on: each `send` leaves one, or renews it
  sign      sign one, or a lockfile, with an SSH key: beside the file, or in the store as what refers to it

A parcel is an OCI image layout in a tar (docs/parcel.md). A store is a folder, such a folder that any web server
serves (https://HOST/FOLDER, only read), or a registry (oci://HOST/NAME[:TAG]; oci+http:// where nothing is encrypted).
Without an address the one is meant that LAPIDAR_STORE, your configuration or the project names: [store] address."""

EXAMPLES = """\
examples:
  lapidar parcel make                                  into PROJECT-SNAPSHOT.parcel.tar
  lapidar parcel make --with-project --with-results    all of it: to open, restore and rerun elsewhere
  lapidar parcel make --since kilns-3fe0a1c2b4d5.parcel.tar    only what whoever has that one lacks
  lapidar parcel make --to - | ssh cluster 'cat > kilns.parcel.tar'
  lapidar parcel make --ready --with-project --with-results    to unpack with tar, and run with sh
  lapidar parcel show kilns.parcel.tar
  lapidar parcel open kilns.parcel.tar --into kilns
  lapidar restore --from kilns.parcel.tar              of a project that has the lockfile already
  lapidar parcel send oci://store.example/kilns        what it has already is not sent again
  lapidar parcel fetch oci://store.example/kilns       into the cache, for this project
  lapidar parcel list oci://store.example/kilns
  lapidar parcel forget /srv/parcels                   shows what nobody needs any more, and asks
  lapidar parcel sign kilns.parcel.tar --key ~/.ssh/id_ed25519"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("action", choices=list(_ACTIONS))
    parser.add_argument(
        "parcel",
        nargs="?",
        metavar="FILE|ADDRESS",
        help="the parcel (open, show, verify) or the store (send, fetch, list, forget)",
    )
    parser.add_argument("--to", metavar="FILE", help="make: the file to write (- for standard output)")
    parser.add_argument("--with-results", action="store_true", help="make, send: also records, inputs and results")
    parser.add_argument(
        "--with-project", action="store_true", help="make, send: also what version control has or would take"
    )
    parser.add_argument(
        "--without-lapidar",
        action="store_true",
        help="make: leave out Lapidar itself, with which a machine that has neither it nor Python opens the parcel",
    )
    parser.add_argument(
        "--ready",
        action="store_true",
        help="make: instead a packed tar in which the environment lies as it is used, with a script that runs in it: "
        "for tar and sh alone",
    )
    parser.add_argument(
        "--since",
        metavar="FILE|SNAPSHOT",
        help="make: leave out what a parcel or a snapshot has that the other side has already",
    )
    parser.add_argument(
        "--into", metavar="DIR", help="open, fetch: the folder (open: default one of the project's name)"
    )
    parser.add_argument(
        "--lease",
        type=int,
        metavar="DAYS",
        help="send: how long the project is going to need it (default 400; 0: leave no lease)",
    )
    parser.add_argument(
        "-y",
        "--yes",
        action="store_true",
        help="forget: without asking; send: also what a licence may keep from being passed on",
    )
    parser.add_argument("--key", metavar="FILE", help="sign: the SSH key, or the public one of one that an agent holds")
    add_snapshot_options(parser)


def run(session: Session) -> int:
    options = session.options
    if options.action == "make" and options.parcel:
        raise LapidarError("`make` takes no file", remedy="Name what to write with --to.")
    _require_meant(session)
    if options.action in ("open", "show", "verify", "sign") and not options.parcel:
        raise LapidarError(
            f"Which parcel to {options.action} is not said", remedy=f"lapidar parcel {options.action} FILE"
        )
    return _ACTIONS[options.action](session)


def _require_meant(session: Session) -> None:
    """No option is passed over: whoever gives one expects that it acts."""
    options = session.options
    of_make = {"--to": options.to, "--since": options.since, "--ready": options.ready}
    of_make["--without-lapidar"] = options.without_lapidar
    of_both = {"--with-results": options.with_results, "--with-project": options.with_project}
    wrong = [name for name, given in of_make.items() if given and options.action != "make"]
    wrong += [name for name, given in of_both.items() if given and options.action not in ("make", "send")]
    wrong += ["--into"] if options.into and options.action not in ("open", "fetch") else []
    wrong += ["--lease"] if options.lease is not None and options.action != "send" else []
    wrong += ["--yes"] if options.yes and options.action not in ("send", "forget") else []
    wrong += ["--key"] if options.key and options.action != "sign" else []
    if options.ready and options.since:
        wrong.append("--since (with --ready)")
    if wrong:
        raise LapidarError(
            f"{wrong[0]} means nothing to `parcel {options.action}`", remedy="lapidar parcel --help says whose it is."
        )


# ---- make


def _make(session: Session) -> int:
    from lapidar.core.flows import parcel
    from lapidar.core.flows.ready import ITSELF

    options, view, place = session.options, session.view, session.place
    cache, snapshot = session.cache(), session.snapshot()
    to_stdout = options.to == "-"
    if to_stdout and sys.stdout.isatty():
        raise LapidarError("A parcel is nothing for a terminal", remedy="Name a file with --to, or pipe it on.")
    with cache.in_use():
        gathered = _gathered(session, cache, snapshot)
        if options.ready:
            return _make_ready(session, cache, gathered)
        known = parcel.known_of(place, cache, options.since, view.reporter()) if options.since else {}
        if not options.without_lapidar:
            gathered = _with_itself(session, cache, gathered)
        default = place.root / f"{place.root.name}-{words.short(snapshot.snapshot)}{parcel.SUFFIX}"
        target = session.path("to") or default
        out = sys.stdout.buffer if to_stdout else Path(os.path.abspath(target))
        done = parcel.write(gathered, out, known, view.reporter())
    if to_stdout:
        sys.stdout.buffer.flush()
        return ExitCode.DONE
    left_out = [one for one in done.manifest.layers if one.tree in known]
    if view.json:
        view.object(
            {
                "file": str(target),
                "bytes": done.bytes,
                "snapshot": done.manifest.snapshot,
                "blobs": len(done.manifest.layers),
                "left_out": len(left_out),
                "notes": gathered.notes,
                "suspects": gathered.project.suspects if gathered.project else [],
            }
        )
        return ExitCode.DONE
    stands_for = sum(tree.total_bytes for tree, _ in gathered.content.trees.values())
    view.line(
        f"Wrote {human_path(target)}: {human_bytes(done.bytes or 0)}, for {human_bytes(stands_for)} of environment"
        + (" and results" if gathered.analyses else ""),
        "good",
    )
    beside = gathered.content.beside.get(ITSELF)
    if beside and isinstance(beside[0], Path):
        view.note(
            f"{human_bytes(beside[0].stat().st_size)} of it are Lapidar itself (--without-lapidar leaves it out)."
        )
    if left_out:
        size = human_bytes(sum(one.size for one in left_out))
        view.note(f"Without {human_count(len(left_out), 'blob')} ({size}) that {options.since} has.")
    view.note(f"Elsewhere: lapidar parcel open {shlex.quote(target.name)}")
    return ExitCode.DONE


def _gathered(session: Session, cache: Cache, snapshot: Snapshot) -> Gathered:
    """What goes along; it is told before anything is written."""
    from lapidar.core.flows import parcel

    options, view = session.options, session.view
    wanted = parcel.Wanted(options.with_results, options.with_project, session.script if options.script else None)
    gathered = parcel.content_of(session.place, cache, snapshot, wanted)
    for sentence in gathered.notes:
        view.warn(sentence)
    if gathered.project:
        tree = gathered.project.tree
        view.note(f"The project's files: {human_count(len(tree), 'file')}, {human_bytes(tree.total_bytes)}.")
        for one in gathered.project.suspects:
            view.warn(f"{one.path}, line {one.line}, looks like {one.what}: it goes along")
    if gathered.analyses:
        view.note(f"With the results of {', '.join(one.name for one in gathered.analyses)}.")
    return gathered


def _with_itself(session: Session, cache: Cache, gathered: Gathered) -> Gathered:
    """What goes along, and Lapidar with it; where its own environment cannot be captured, without."""
    from lapidar.core.flows.ready import ITSELF, OPEN_SCRIPT, README, is_packed, itself

    if not is_packed(cache):
        session.view.note("Lapidar itself goes along, and is packed for that, once.")
    try:
        own = itself(cache, session.view.reporter())
    except LapidarError as error:
        session.view.warn(f"Lapidar itself does not go along: {error}")
        return gathered
    beside: dict[str, tuple[bytes | Path, bool]] = {
        "README.txt": (README.encode(), False),
        "open.sh": (OPEN_SCRIPT.encode(), True),
        ITSELF: (own, False),
    }
    return replace(gathered, content=replace(gathered.content, beside=beside))


def _make_ready(session: Session, cache: Cache, gathered: Gathered) -> int:
    from lapidar.core.flows.ready import write_ready

    view, place = session.view, session.place
    target = session.path("to") or place.root / f"{place.root.name}-{words.short(gathered.snapshot.snapshot)}.tar.gz"
    size = write_ready(place, cache, gathered, Path(os.path.abspath(target)), view.reporter())
    if view.json:
        view.object({"file": str(target), "bytes": size, "snapshot": gathered.snapshot.snapshot})
        return ExitCode.DONE
    view.line(f"Wrote {human_path(target)}: {human_bytes(size)}", "good")
    runs = "[COMMAND]" if gathered.analyses and gathered.project else "COMMAND"
    script = shlex.quote(f"{gathered.content.name}/run")
    view.note(f"Elsewhere: tar xzf {shlex.quote(target.name)}; sh {script} {runs}")
    return ExitCode.DONE


# ---- open, show, verify


def _named(session: Session) -> Parcel:
    from lapidar.core.flows.parcel import opened_at

    address, with_credentials = _address(session)
    return opened_at(address, _tag(session), with_credentials=with_credentials)


def _tag(session: Session) -> str:
    """What the project's lockfile is called in a store; "" where there is none."""
    from lapidar.core.records.lockfile import identity_in

    return words.short(identity_in(session.path("lock") or session.place.lockfile))


def _address(session: Session) -> tuple[str, bool]:
    """The parcel or the store that is named, else that of the user or the project; and whether the user's credentials
    are for it."""
    if session.options.parcel:
        return str(session.options.parcel), True
    from lapidar.cli.stores import chosen_store

    one = chosen_store(session)
    return one.address, one.by_user


def _open(session: Session) -> int:
    from lapidar.core.flows.parcel import unpack

    view, found = session.view, _named(session)
    into = session.path("into") or _default_folder(session, found)
    done = unpack(found, into, session.cache(create=True), view.reporter())
    if view.json:
        view.object(
            {
                "project": str(done.place.root),
                "snapshot": found.manifest.snapshot,
                "trees_brought": done.brought,
                "files": done.files,
                "kept": done.kept,
            }
        )
        return ExitCode.DONE
    for name in done.kept:
        view.warn(f"{name} was not put there: another stands there, or it is no project's file")
    shown = human_path(done.place.root)
    view.line(f"Opened into {shown}: {human_count(len(done.files), 'file')}; all it needs is in the cache.", "good")
    view.note(f"Next: {_next(done.place.root, found)}")
    return ExitCode.DONE


def _default_folder(session: Session, found: Parcel) -> Path:
    """The project that we are in, where it has the parcel's lockfile; else a folder of the name that it had."""
    from lapidar.core.parcels.form import TITLE
    from lapidar.core.records.lockfile import identity_in

    place = session.place
    if place.lockfile.is_file() and identity_in(place.lockfile) == found.manifest.snapshot:
        return place.root
    name = found.manifest.annotations.get(TITLE, "")
    return Path(name if name and name not in (".", "..") and "/" not in name and name.isprintable() else "opened")


def _next(folder: Path, found: Parcel) -> str:
    here = [] if folder == Path.cwd() else [f"cd {typed_path(folder)}"]
    after = ["lapidar restore"]
    if found.records.analysis and found.project:
        after.append(f"lapidar rerun {shlex.quote(found.records.analysis[0].name)}")
    return " && ".join([*here, *after])


def _fetch(session: Session) -> int:
    """Into the cache alone; with a folder as `open` does."""
    from lapidar.core.flows.parcel import bring_trees

    if session.options.into:
        return _open(session)
    view, found, cache = session.view, _named(session), session.cache(create=True)
    with cache.in_use():
        brought = bring_trees(found, cache, [part.tree for part in found.snapshot.parts()], view.reporter())
    if view.json:
        view.object({"snapshot": found.manifest.snapshot, "trees_brought": brought})
        return ExitCode.DONE
    short = words.short(found.manifest.snapshot)
    if not brought:
        view.line(f"The cache has all of snapshot {short} already.", "good")
    else:
        view.line(f"Brought {human_count(brought, 'tree')} of snapshot {short} into the cache.", "good")
    view.note("Next: lapidar restore" if _tag(session) == short else "With --into DIR its lockfile and files come too.")
    return ExitCode.DONE


def _send(session: Session) -> int:
    from lapidar.cli.stores import require_may_be_passed_on
    from lapidar.core.flows.sending import send

    view, cache, snapshot = session.view, session.cache(), session.snapshot()
    address, with_credentials = _address(session)
    with cache.in_use():
        require_may_be_passed_on(session, cache, snapshot)
        gathered = _gathered(session, cache, snapshot)
        sent = send(
            gathered,
            address,
            view.reporter(),
            lease=_lease(session, gathered.content.name),
            with_credentials=with_credentials,
        )
    assert sent.manifest is not None
    if view.json:
        view.object(
            {
                "address": address,
                "tag": sent.tag,
                "snapshot": snapshot.snapshot,
                "blobs": len(sent.manifest.layers),
                "blobs_sent": sent.blobs,
                "bytes_sent": sent.bytes,
            }
        )
        return ExitCode.DONE
    what = f"{human_count(sent.blobs, 'blob')}, {human_bytes(sent.bytes)}" if sent.bytes else "nothing it had not"
    view.line(f"Sent to {address} as {sent.tag}: {what}; {len(sent.manifest.layers)} blobs in all.", "good")
    there = shlex.quote(address)
    view.note(f"Elsewhere: LAPIDAR_STORE={there} lapidar restore --fetch; or lapidar parcel fetch {there}")
    return ExitCode.DONE


def _lease(session: Session, name: str) -> Lease | None:
    from lapidar.core.parcels import leasing

    days = leasing.DAYS if session.options.lease is None else session.options.lease
    if not 0 <= days <= _MOST_DAYS:
        raise LapidarError(f"A lease of {days} days is none", remedy=f"Give --lease 0 to {_MOST_DAYS}.")
    return leasing.lasting(session.place.identity(), name, days) if days else None


def _forget(session: Session) -> int:
    from lapidar.core.flows.forgetting import looked_through
    from lapidar.core.foreign import expanded
    from lapidar.core.parcels.form import TITLE
    from lapidar.core.parcels.places import is_host, writable_at

    view, (address, with_credentials) = session.view, _address(session)
    if not is_host(address) and not expanded(address).is_dir():
        raise LapidarError(f"There is no store {address}", remedy="Name the folder, or the registry, that has parcels.")
    target, tag = writable_at(address, with_credentials=with_credentials)
    if tag:
        raise LapidarError(
            f"{address} names one parcel", remedy="Name the store without a tag: what is forgotten the leases say."
        )
    found, others = looked_through(target)
    agreed = bool(found) and (session.options.yes or (not view.json and _agreed_to_forget(session, found)))
    freed = target.forget([one.tag for one in found]) if agreed else 0
    if view.json:
        view.object(
            {
                "address": address,
                "unneeded": [
                    {"tag": one.tag, "snapshot": one.parcel.manifest.snapshot, "lapsed": one.lapsed} for one in found
                ],
                "kept": others,
                "forgotten": agreed,
                "bytes_freed": freed,
            }
        )
        return ExitCode.DONE
    if not found:
        view.line(f"Nothing to forget: somebody has a lease on all of {human_count(others, 'parcel')}.", "good")
    elif agreed:
        what = ", ".join(one.parcel.manifest.annotations.get(TITLE) or one.tag for one in found[:3])
        view.line(f"Forgot {human_count(len(found), 'parcel')} ({what}); {human_bytes(freed)} became free.", "good")
        if not freed:
            view.note("The blobs go when the store's keeper has it collect what no manifest lists.")
    else:
        view.note("Nothing was forgotten. --yes does it without asking.")
    return ExitCode.DONE


def _agreed_to_forget(session: Session, found: Sequence[Unneeded]) -> bool:
    from lapidar.core.parcels.form import TITLE

    session.view.table(
        ["tag", "project", "snapshot", "size", "lease"],
        [
            [
                one.tag,
                one.parcel.manifest.annotations.get(TITLE, ""),
                words.short(one.parcel.manifest.snapshot),
                human_bytes(sum(layer.size for layer in one.parcel.manifest.layers)),
                ", ".join(f"{lease.name} until {lease.until}" for lease in one.lapsed) or "nobody's",
            ]
            for one in found
        ],
        right=(3,),
    )
    return session.view.asks(f"Forget {human_count(len(found), 'parcel')}?")


def _sign(session: Session) -> int:
    from lapidar.core.flows.parcel import sign_at

    view, key = session.view, session.path("key")
    if key is None:
        raise LapidarError("With which key is not said", remedy="lapidar parcel sign FILE --key ~/.ssh/id_ed25519")
    address, _ = _address(session)
    snapshot = sign_at(address, _tag(session), key)
    if view.json:
        view.object({"signed": address, "snapshot": snapshot})
        return ExitCode.DONE
    view.line(f"Signed {address}, snapshot {words.short(snapshot)}.", "good")
    view.note("Whom one trusts stands in one's own configuration: [trust] signers, required.")
    return ExitCode.DONE


def _list(session: Session) -> int:
    from lapidar.core.flows.sending import listed
    from lapidar.core.parcels.form import TITLE
    from lapidar.core.parcels.places import place_at

    view, (address, with_credentials) = session.view, _address(session)
    rows = list(listed(place_at(address, with_credentials=with_credentials)[0]))
    if view.json:
        view.object(
            [
                {
                    "tag": tag,
                    "snapshot": one.manifest.snapshot if one else None,
                    "project": one.manifest.annotations.get(TITLE, "") if one else None,
                    "blobs": len(one.manifest.layers) if one else None,
                    "bytes": sum(layer.size for layer in one.manifest.layers) if one else None,
                    "with_project": bool(one.project) if one else None,
                }
                for tag, one in rows
            ]
        )
        return ExitCode.DONE
    if not rows:
        view.line(f"{address} holds no parcels.")
        return ExitCode.DONE
    view.table(
        ["tag", "project", "snapshot", "size", "blobs", "holds"],
        [
            [
                tag,
                one.manifest.annotations.get(TITLE, ""),
                words.short(one.manifest.snapshot),
                human_bytes(sum(layer.size for layer in one.manifest.layers)),
                str(len(one.manifest.layers)),
                _holds(one),
            ]
            if one
            else [tag, "", "", "", "", "something else"]
            for tag, one in rows
        ],
        right=(3, 4),
    )
    return ExitCode.DONE


def _holds(one: Parcel) -> str:
    from lapidar.core.parcels.form import RECORDS

    what = ["environment"]
    what += ["results"] if one.manifest.of_type(RECORDS) else []
    what += ["project"] if one.project else []
    return ", ".join(what)


def _verify(session: Session) -> int:
    from lapidar.core.flows.parcel import lockfile_signer, verified
    from lapidar.core.parcels.form import ParcelBroken
    from lapidar.core.parcels.signing import NotTrusted
    from lapidar.core.records.lockfile import identity_in

    view, path = session.view, session.path("parcel")
    try:
        if path and "://" not in session.options.parcel and (identity := identity_in(path)):
            name = lockfile_signer(path)
            if view.json:
                view.object({"whole": True, "snapshot": identity, "signed_by": name})
            else:
                view.line(f"Signed by {name}: snapshot {words.short(identity)}.", "good")
            return ExitCode.DONE
        found = _named(session)
        count, size = verified(found, view.reporter())
    except ParcelBroken as error:
        if view.json:
            view.object({"whole": False, "what": error.what, "why": error.why})
        else:
            view.line(f"{'Not trusted' if isinstance(error, NotTrusted) else 'Damaged'}: {error}", "bad")
            view.note(error.remedy)
        return ExitCode.NO
    lacking = [one.digest for one in found.lacking]
    if view.json:
        view.object({"whole": True, "blobs": count, "bytes": size, "lacking": lacking, "signed_by": found.signed_by})
        return ExitCode.DONE
    view.line(
        f"Whole: {human_count(count, 'blob')}, {human_bytes(size)} read; every file is as its listing says.", "good"
    )
    if found.signed_by:
        view.line(f"Signed by {found.signed_by}.", "good")
    if lacking:
        view.note(f"{human_count(len(lacking), 'blob')} that it lists are not in it: another side has them.")
    return ExitCode.DONE


def _show(session: Session) -> int:
    view, found = session.view, _named(session)
    snapshot, lacking = found.snapshot, {one.digest for one in found.lacking}
    parts = list(snapshot.parts())
    if view.json:
        view.object(
            {
                "snapshot": snapshot.snapshot,
                "blobs": found.manifest.layers,
                "lacking": sorted(lacking),
                "analyses": [one.name for one in found.records.analysis],
                "project": found.project is not None,
            }
        )
        return ExitCode.DONE
    from lapidar.core.parcels.form import TITLE

    layers = found.manifest.layers
    view.line(f"Parcel     {session.options.parcel}")
    view.line(f"Project    {found.manifest.annotations.get(TITLE, '')}")
    view.line(
        f"Snapshot   {words.short(snapshot.snapshot)}, for {snapshot.platform.system} {snapshot.platform.machine}"
    )
    size = sum(one.size for one in layers if one.digest not in lacking)
    view.line(f"Holds      {human_count(len(layers) - len(lacking), 'blob')}, {human_bytes(size)}")
    if lacking:
        view.line(f"Lists      {human_count(len(lacking), 'blob')} more, which another side has", "warn")
    view.line(f"Results    {', '.join(one.name for one in found.records.analysis) or 'none'}")
    project = found.project
    view.line(f"Sources    {f'{human_bytes(project.size)} packed' if project else 'not in it'}")
    if beside := getattr(found.blobs, "beside", {}):
        view.line(f"Beside     Lapidar itself, {human_bytes(sum(beside.values()))}: sh and tar are enough to open it")
    view.line()
    packed = found.manifest.trees
    rows: list[Sequence[str]] = []
    for part in sorted(parts, key=lambda part: -packed[part.tree].size)[: None if view.verbose else _SHOWN]:
        one: Descriptor = packed[part.tree]
        state = "elsewhere" if one.digest in lacking else human_bytes(one.size)
        rows.append(
            [words.owner(part.owner), state, human_bytes(part.bytes), f"{part.files:,}", words.short(one.digest)]
        )
    view.table(["holds", "packed", "unpacked", "files", "blob"], rows, right=(1, 2, 3))
    if len(parts) > len(rows):
        view.note(f"and {len(parts) - len(rows)} smaller ones (-v shows them)")
    return ExitCode.DONE


_SHOWN = 15
_ACTIONS = {
    "make": _make,
    "open": _open,
    "show": _show,
    "verify": _verify,
    "send": _send,
    "fetch": _fetch,
    "list": _list,
    "forget": _forget,
    "sign": _sign,
}
