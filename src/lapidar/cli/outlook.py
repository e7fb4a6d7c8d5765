"""``lapidar outlook``"""

from __future__ import annotations

import argparse

from msgspec.structs import replace

from lapidar.cli import pins
from lapidar.cli.main import Session, add_exit_code_option
from lapidar.cli.view import human_count

DESCRIPTION = """\
Show for every pinned package what is pinned, the newest that the declared needs allow together, the newest there is
for the runtime, and who holds it back. Changes nothing. Asks the package indexes that you configured, and no other
host.

Of all packages. `lapidar versions NAME` shows every version of one; `lapidar why NAME` who needs it, or keeps a version
out; `lapidar pin --renew --dry-run` what an update would change."""

EXAMPLES = """\
examples:
  lapidar outlook
  lapidar outlook -v                    also what is the newest already
  lapidar pin --renew NAME              take the newest that is allowed"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--wheels-only", action="store_true", help="what would have to be built does not count")
    add_exit_code_option(parser, "something newer is held back or not pinned")
    parser.set_defaults(runtime=None)


def run(session: Session) -> int:
    from lapidar.core.flows import pin
    from lapidar.core.pinning.session import PinRequest
    from lapidar.core.records import lockfile, words
    from lapidar.core.records.owner import PackageName

    view = session.view
    declaration = pins.declaration_of(session)
    previous = lockfile.read(session.place.lockfile)
    request = PinRequest(session.place, session.cache(), declaration, previous, pins.options_of(session))
    with pin.opened(request) as pinning:
        rows = [replace(row, language=name) for name, asked in pinning.sessions.items() for row in asked.outlook()]
    if view.json:
        view.object(rows)
        return session.told(not all(row.is_newest for row in rows))
    shown = [row for row in rows if view.verbose or not row.is_newest]
    lines = []
    names = words.package_names([PackageName(row.language, row.name) for row in rows])
    for row in shown:
        key = PackageName(row.language, row.name)
        option = words.language_option(row.language) if names[key] != row.name else ""
        remedy = f"nobody: lapidar pin {option}--renew {row.name}" if row.allowed not in ("", row.pinned) else "-"
        held = "; ".join(row.held_by) or ("needed no longer" if not row.allowed else remedy)
        lines.append([names[key], row.pinned, row.allowed or "-", row.newest or "-", held])
    if lines:
        view.table(["package", "pinned", "newest allowed", "newest there is", "held back by"], lines)
        view.note()
    newest = len(rows) - sum(not row.is_newest for row in rows)
    view.line(
        f"{newest} of {human_count(len(rows), 'package')} pinned in the newest version.",
        "good" if newest == len(rows) else "",
    )
    return session.told(newest < len(rows))
