"""``lapidar why``"""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from lapidar.cli import pins
from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session, add_exit_code_option, add_language_option, add_snapshot_options
from lapidar.cli.view import View, human_count

if TYPE_CHECKING:
    from lapidar.core.records.declaration import Declaration, Need
    from lapidar.core.records.graph import Edge, Graph
    from lapidar.core.records.owner import PackageName
    from lapidar.core.records.snapshot import Package, Snapshot

DESCRIPTION = """\
Show why a package is in the lockfile: every chain from a need of the project down to it, with the range at each step.
For a package that is absent, or a version that is not the pinned one (NAME==VERSION): what keeps it out; only for
that it asks the package indexes that you configured.

Of one package. `lapidar show --graph` shows who needs whom of all; `lapidar versions NAME` which versions there are;
`lapidar outlook` who holds back the newest of all that are pinned."""

EXAMPLES = """\
examples:
  lapidar why numpy
  lapidar why 'numpy>=2.3'              why not this?
  lapidar why -v numpy                  every chain"""

_SHOWN = 8


def add_arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("need", metavar="NAME[RANGE]", help="a package, or a range of its versions")
    add_snapshot_options(parser)
    add_language_option(parser, several=False)
    add_exit_code_option(parser, "it is not there")
    parser.set_defaults(runtime=None, wheels_only=False)


def run(session: Session) -> int:
    from lapidar.core import languages
    from lapidar.core.declaring import judge, reading
    from lapidar.core.flows.naming import known_in, language_of, need_of
    from lapidar.core.records import words

    view, options = session.view, session.options
    snapshot = session.snapshot()
    declaration = reading.read(session.place)
    otherwise, said = language_of(session.place, options.language or "", [options.need])
    need = need_of(options.need, known_in(declaration, snapshot), otherwise, options.language or "")
    if said and need.language == otherwise.name:
        view.warn(said)
    cache = session.cache_if_any(create=False)  # without one there are no ranges
    package = next((package for package in snapshot.packages if package.key == need.key), None)
    about = {need.key, *declaration.overrides} if package else None
    graph = judge.graph(snapshot, declaration, cache, about)
    if not view.json:
        for standing in judge.overrides(declaration, graph):
            view.line(words.override_sentence(standing), "warn")
    if package and languages.of(package.language).versions.allows(need.text, package.version):
        _present(package, graph, view)
        return ExitCode.DONE
    _absent(session, need, package, graph, declaration)
    return session.told(True)


def _present(package: Package, graph: Graph, view: View) -> None:
    chains = graph.chains(package.key)
    if view.json:
        view.object(
            {
                **package.key._asdict(),
                "version": package.version,
                "chains": [[as_values(edge) for edge in chain] for chain in chains],
            }
        )
        return
    versions = {one.key: one.version for one in graph.snapshot.packages}
    view.line(f"{package.name} {package.version} is there because:")
    shown = chains if view.verbose else chains[:_SHOWN]
    for chain in shown:
        view.line("  " + _told(chain, versions))
    if len(shown) < len(chains):
        view.line(f"  and {human_count(len(chains) - len(shown), 'longer chain')} (-v shows all)")
    if not chains:
        view.line("  no need leads to it: it was captured with the environment. `lapidar pin` would leave it out.")


def as_values(edge: Edge) -> dict[str, object]:
    """A need as `--json` prints it."""
    source = edge.source.name if edge.source else None
    return {"language": edge.target.language, "source": source, "target": edge.target.name, "text": edge.text,
            "where": edge.where}  # fmt: skip


def _told(chain: list[Edge], versions: dict[PackageName, str]) -> str:
    first = chain[0]
    steps = [f"you need {first.text}" + (f" ({first.where})" if first.where else "")]
    steps += [f"{edge.source.name} {versions.get(edge.source, '')} needs {edge.text}" for edge in chain if edge.source]
    return " → ".join(steps)


def _absent(session: Session, need: Need, package: Package | None, graph: Graph, declaration: Declaration) -> None:
    from lapidar.core import languages, spelling

    view = session.view
    said = []
    if package:
        said.append(f"{need.name} is pinned at {package.version}, which {need.text} excludes.")
    else:
        said.append(f"{need.name} is not in the lockfile.")
        for idle in graph.idle.get(need.key, []):
            how = (
                f"only with its extra: lapidar need '{idle.source.name}[{idle.extra}]'"
                if idle.extra
                else "not on this runtime"
            )
            said.append(f"{idle.source.name} needs {idle.text}: {how}")
        if not graph.idle.get(need.key):
            said.append("Nothing in it needs it.")
        if meant := spelling.near(
            need.name, [one.name for one in graph.snapshot.packages if one.language == need.language]
        ):
            said.append(spelling.hint(meant))
    if any((one.language or languages.usual().name) == need.language for one in declaration.indexes):
        said += _tried(session, need, declaration, graph.snapshot)
    if view.json:
        view.object(
            {**need.key._asdict(), "version": package.version if package else None, "chains": [], "absent": said}
        )
        return
    for line in said:
        view.line(line)


def _tried(session: Session, need: Need, declaration: Declaration, snapshot: Snapshot) -> list[str]:
    """What would come of asking for it."""
    from lapidar.core.flows import pin
    from lapidar.core.pinning.session import PinRequest
    from lapidar.core.records import words

    cache = session.cache(create=True)
    request = PinRequest(session.place, cache, declaration, snapshot, pins.options_of(session))
    with pin.opened(request, only=need.language) as pinning:
        reasons = pinning.of(need.language).what_keeps_out(need)
    if not reasons:
        option = words.language_option(need.language if len(snapshot.languages) > 1 else "")
        return [f"Nothing keeps it out: lapidar need {option}'{need.text}'"]
    return ["What keeps it out:", *(f"  {reason}" for reason in reasons)]
