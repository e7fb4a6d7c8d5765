"""``lapidar compare``"""

from __future__ import annotations

import argparse

from lapidar.cli.exit_codes import ExitCode
from lapidar.cli.main import Session

DESCRIPTION = """\
Compare results, each as what it is: two files, two folders, a folder and a record, two records. Numbers are compared as
numbers wherever they stand; dates inside of documents, line ends and the order of keys do not count. What is tolerated
stands in lapidar.toml, and is said beside each verdict."""

EXAMPLES = """\
examples:
  lapidar compare results-2021 results          two folders
  lapidar compare old.csv new.csv -v            two files, all that differs
  lapidar compare kilns results                 what was recorded, and what lies there now
  lapidar compare kilns@v1.0 kilns              what was recorded at a tag of git, and now
  lapidar compare a.png b.png --picture difference.png"""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    from lapidar.cli.verdicts import add_output_options

    parser.add_argument("before", metavar="A", help="a file, a folder, or a record: NAME or NAME@REVISION")
    parser.add_argument("other", metavar="B", help="likewise")
    parser.add_argument(
        "--analysis", metavar="NAME", default="", help="whose tolerances hold, where neither is a record"
    )
    add_output_options(parser)


def run(session: Session) -> int:
    from lapidar.cli.verdicts import as_json, draw, show
    from lapidar.core.errors import CacheError
    from lapidar.core.flows.compare_results import compare_two
    from lapidar.core.results.verdict import worst

    options, view = session.options, session.view
    try:
        cache = session.cache()
    except CacheError:
        cache = None
    done = compare_two(session.place, cache, options.before, options.other, options.analysis)
    show(done.compared, view)
    for note in done.notes:
        view.warn(note)
    verdict = worst(one.verdict for one in done.compared)
    told = [("before", done.before), ("after", done.after)]
    draw(done.compared, done.files, session.path("picture"), session.path("report"), told, view)
    if view.json:
        results = [as_json(one) for one in done.compared]
        view.object(
            {
                "before": done.before,
                "after": done.after,
                "verdict": str(verdict),
                "results": results,
                "notes": list(done.notes),
            }
        )
    elif not done.compared:
        view.line("There is nothing to compare.")
    return ExitCode.DONE if verdict.is_good else ExitCode.NO
