"""``lapidar export``"""

from __future__ import annotations

import argparse
import os
import shlex
from pathlib import Path

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session, add_snapshot_options
from lapidar.cli.view import human_bytes, human_count, human_path

DESCRIPTION = """\
Write what a lockfile says of packages in a form that other programs read: the standard pylock.toml, a
requirements-style list with digests, a table (CSV) of the packages of every language, a bill of materials (CycloneDX
1.6); or a recorded analysis with its sources, inputs and results as a research object (RO-Crate 1.2); or the
environment and the project as a runnable OCI image, from nothing but the snapshot. What has no place in a form is said;
the lockfile stays what counts."""

EXAMPLES = """\
examples:
  lapidar export pylock                        into pylock.toml
  lapidar export table                         also of R: name, version, digests
  lapidar export requirements --to -           to standard output
  lapidar export bom                           components, digests, licences, who needs whom
  lapidar export crate kilns --to kilns.zip    for a repository of research data
  lapidar export image --to kilns.tar          runs the recorded analysis; an OCI layout in a tar
  lapidar export image kilns --to oci://registry.example/team/kilns:paper"""

_FILES = {
    "pylock": "pylock.toml",
    "requirements": "pinned-packages.txt",
    "table": "packages.csv",
    "bom": "bom.json",
    "crate": "crate",
    "image": "image",
}
_OF_PYTHON = ("pylock", "requirements")


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("form", choices=sorted(_FILES), help="which form")
    parser.add_argument(
        "name", nargs="?", default="", metavar="ANALYSIS", help="crate, image: which, where several are recorded"
    )
    parser.add_argument(
        "--to",
        metavar="FILE",
        help="where (default: in the project; - for standard output); image: a store's address too",
    )
    parser.add_argument(
        "-y", "--yes", action="store_true", help="image: send also what a licence may keep from being passed on"
    )
    add_snapshot_options(parser)


def run(session: Session) -> int:
    from lapidar.core import atomic
    from lapidar.core.flows import export
    from lapidar.core.languages.python.exchange import listed, pylock

    options, view = session.options, session.view
    if options.form == "crate":
        return _crate(session)
    if options.form == "image":
        return _image(session)
    snapshot = session.snapshot()
    only = "python" if options.form in _OF_PYTHON else ""
    if only:
        export.require_packages_of(snapshot, only)
    if options.form == "bom":
        from lapidar.core.declaring import reading
        from lapidar.core.exchange import bom

        name = reading.read(session.place).name or session.place.root.name
        text = bom.render(snapshot, session.cache_if_any(create=False), name)
    elif options.form == "table":
        text = export.table(snapshot)
    elif options.form == "pylock":
        text = pylock.render(snapshot)
    else:
        text, without = listed.render(snapshot)
        if without:
            view.warn(f"no digest of a file is known for {', '.join(without)}")
    if options.form != "bom":
        view.warn(f"it has no place for {', '.join(export.has_no_place(snapshot, only))}")
    if options.to == "-":
        if view.json:
            view.object({"form": options.form, "text": text, "packages": len(snapshot.packages)})
        else:
            print(text, end="")
        return ExitCode.DONE
    path = session.path("to") or session.place.root / _FILES[options.form]
    atomic.replace_file(path, text.encode("utf-8"))
    if view.json:
        view.object({"file": str(path), "packages": len(snapshot.packages)})
    else:
        view.line(f"Wrote {human_path(path)}", "good")
    return ExitCode.DONE


def _crate(session: Session) -> int:
    from lapidar.core.flows.crate import write_crate

    view, place, cache = session.view, session.place, session.cache()
    to = Path(os.path.abspath(session.path("to") or place.root / f"{place.root.name}-crate"))
    with cache.in_use():
        done = write_crate(place, cache, session.options.name, to)
    if view.json:
        view.object({"to": str(to), "analysis": done.analysis, "files": done.files, "notes": done.notes})
        return ExitCode.DONE
    for sentence in done.notes:
        view.warn(sentence)
    view.line(f"Wrote {human_path(to)}: {done.analysis}, {human_count(done.files, 'file')}", "good")
    return ExitCode.DONE


def _image(session: Session) -> int:
    from lapidar.cli.stores import require_may_be_passed_on
    from lapidar.core.flows.image import write_image
    from lapidar.core.parcels.places import is_host

    view, place, cache = session.view, session.place, session.cache()
    snapshot = session.snapshot()
    to = session.options.to or str(place.root / f"{place.root.name}.image.tar")
    with cache.in_use():
        if is_host(to):
            require_may_be_passed_on(session, cache, snapshot)
        done = write_image(place, cache, snapshot, session.options.name, to, view.reporter())
    if view.json:
        view.object({"to": to, "command": done.command, "bytes": done.bytes, "notes": done.notes})
        return ExitCode.DONE
    for sentence in done.notes:
        view.warn(sentence)
    view.line(f"Wrote {to}: {shlex.join(done.command)}, {human_bytes(done.bytes)}", "good")
    return ExitCode.DONE
