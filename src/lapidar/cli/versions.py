"""``lapidar versions``"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from lapidar.cli import pins
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session, add_language_option
from lapidar.cli.view import human_count

if TYPE_CHECKING:
    from lapidar.core.pinning.market import Release

DESCRIPTION = """\
Show which versions of a package there are, from when, which of them fit the runtime, and why the others do not.
Asks the package indexes that you configured, and no other host.

Of one package. `lapidar outlook` compares all that are pinned with what there is; `lapidar why NAME` says who needs
one, or keeps it out; `lapidar show packages` what is pinned, `lapidar show --graph` who needs whom."""

EXAMPLES = """\
examples:
  lapidar versions numpy
  lapidar versions numpy -v              all of them
  lapidar versions numpy --as-of 2024-12-31"""

_SHOWN = 15


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("name", metavar="NAME", help="a package")
    add_language_option(parser, several=False)
    parser.add_argument("--as-of", type=pins.day, metavar="DATE", help="as the index stood at the end of this day")
    parser.add_argument("--wheels-only", action="store_true", help="what would have to be built does not fit")
    parser.add_argument("--runtime", metavar="INTERPRETER", help="for this runtime instead of the lockfile's")


def run(session: Session) -> int:
    from lapidar.core.declaring import reading
    from lapidar.core.errors import LapidarError
    from lapidar.core.flows import pin
    from lapidar.core.flows.naming import language_of
    from lapidar.core.pinning.session import PinRequest
    from lapidar.core.records import lockfile
    from lapidar.core.restored.own_packages import is_member

    view = session.view
    language, said = language_of(session.place, session.options.language or "", [session.options.name])
    if said:
        view.warn(said)
    name = language.versions.normalised(session.options.name)
    declaration = reading.read(session.place)
    options = pins.options_of(session, as_of=session.options.as_of)
    previous = lockfile.read_if_there(session.place.lockfile)
    known = previous.packages if previous else ()
    locked = next((one for one in known if (one.language, one.name) == (language.name, name)), None)
    if locked and is_member(locked):
        raise LapidarError(
            f"{name} is a package of your own, in {locked.origin.path}: there is the version that it says",
            remedy=f"Of others of that name: lapidar need '{name}>=0'.",
        )
    request = PinRequest(session.place, session.cache(create=True), declaration, previous, options)
    with pin.opened(request, only=language.name) as pinning:
        asked = pinning.of(language.name)
        releases = asked.releases(name)
    is_same = language.versions.is_same
    pinned = next((one for one in releases if locked and is_same(str(one.version), locked.version)), None)
    if view.json:
        view.object([_object(one, one is pinned) for one in releases])
        return ExitCode.DONE
    shown = releases if view.verbose else releases[:_SHOWN]
    rows = []
    for one in shown:
        standing = str(one.reason) if one.reason else f"fits ({'wheel' if one.is_built else 'from source'})"
        rows.append([str(one.version), one.uploaded[:10] or "-", standing, "pinned" if one is pinned else ""])
    view.table(["version", "from", f"for {asked.target}", ""], rows)
    fitting = sum(not one.reason for one in releases)
    more = f"; {len(releases) - len(shown)} older ones with -v" if len(shown) < len(releases) else ""
    view.note(f"{human_count(len(releases), 'version')}, {fitting} that can be chosen{more}")
    return ExitCode.DONE


def _object(release: Release, pinned: bool) -> dict[str, object]:
    return {
        "version": str(release.version),
        "uploaded": release.uploaded or None,
        "fits": not release.reason,
        "reason": str(release.reason) if release.reason else None,
        "pre_release": release.is_prerelease,
        "withdrawn": release.is_withdrawn,
        "file": release.file or None,
        "pinned": pinned,
    }
