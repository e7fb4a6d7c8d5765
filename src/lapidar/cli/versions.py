"""``lapidar versions``"""

from __future__ import annotations

import argparse

from lapidar.cli import pins
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session
from lapidar.cli.view import human_count

DESCRIPTION = """\
Show which versions of a package there are, from when, which of them fit the runtime, and why the others do not.
Asks the package indexes that you configured, and no other host."""

EXAMPLES = """\
examples:
  lapidar versions numpy
  lapidar versions numpy -v              all of them
  lapidar versions numpy --as-of 2024-12-31"""

_SHOWN = 15


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="a package")
    parser.add_argument("--as-of", type=pins.day, metavar="DATE", help="as the index stood at the end of this day")
    parser.add_argument("--wheels-only", action="store_true", help="what would have to be built does not fit")
    parser.add_argument("--runtime", metavar="INTERPRETER", help="for this runtime instead of the lockfile's")


def run(session: Session) -> int:
    from packaging.utils import canonicalize_name

    from lapidar.core.declaring import reading
    from lapidar.core.languages.python.pinning.session import Pinning
    from lapidar.core.pinning import explain
    from lapidar.core.pinning.outlook import pinned_version

    view, name = session.view, canonicalize_name(session.options.name)
    declaration = reading.read(session.project)
    options = pins.options_of(session, as_of=session.options.as_of)
    previous = pins.previous_lock(session)
    with Pinning(session.project, session.cache(create=True), declaration, previous, options) as pinning:
        candidates = pinning.candidates(pinning.policy(keep=False))
        releases = candidates.releases(name)
        if not releases:
            raise explain.unknown(name, pinning.indexes)
        pinned = pinned_version(pinning, name)
    if view.json:
        view.object(
            [
                {
                    "version": str(one.version),
                    "uploaded": one.uploaded or None,
                    "fits": not one.reason,
                    "reason": one.reason or None,
                    "pre_release": one.version.is_prerelease,
                    "withdrawn": one.withdrawn is not None,
                    "file": one.file.name if one.file else None,
                    "pinned": one.version == pinned,
                }
                for one in releases
            ]
        )
        return ExitCode.DONE
    shown = releases if view.verbose else releases[:_SHOWN]
    rows = []
    for one in shown:
        how = "wheel" if one.file and one.file.is_wheel else "from source" if one.file else ""
        standing = one.reason or f"fits ({how})"
        rows.append([str(one.version), one.uploaded[:10] or "-", standing, "pinned" if one.version == pinned else ""])
    view.table(["version", "from", f"for {pinning.target}", ""], rows)
    fitting = sum(not one.reason for one in releases)
    more = f"; {len(releases) - len(shown)} older ones with -v" if len(shown) < len(releases) else ""
    view.note(f"{human_count(len(releases), 'version')}, {fitting} that can be chosen{more}")
    return ExitCode.DONE
