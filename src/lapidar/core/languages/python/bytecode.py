"""Byte-code: compiled once per tree and runtime, kept in the cache beside the tree, placed with it.

It stays valid because every cached file has one fixed modification time, which is what byte-code is checked
by (PEP 552). The name compiled into it is the path in the tree, so it holds no path of any machine; the
runtime puts the real one in when it loads it.
"""

from __future__ import annotations

import json
import os
import subprocess
from collections.abc import Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import SimpleQueue

from lapidar.core import progress
from lapidar.core.cache.files import FILE_TIME_SECONDS
from lapidar.core.cache.store import Cache
from lapidar.core.cache.stowing import FileDraft, stow
from lapidar.core.cache.trees import LINK, Entry, Tree
from lapidar.core.errors import EnvironmentUnusable
from lapidar.core.records.snapshot import Runtime

__all__ = ["Compiler"]

_WORKERS = os.cpu_count() or 1
_BEGUN = "-begun"


def _tag(runtime: Runtime) -> str:
    """The runtime's tag in names of byte-code: ``cpython-311``."""
    major, minor = runtime.version.split(".")[:2]
    # The free-threaded build has a tag of its own, which is in all its names: python3.13t, lib/python3.13t.
    own = runtime.executable.rpartition("python")[2].removeprefix(f"{major}.{minor}")
    return f"{runtime.implementation}-{major}{minor}{own if own == 't' else ''}"


def _sources(tree: Tree) -> Iterator[Entry]:
    for entry in tree:
        if entry.path.endswith(".py") and entry.kind != LINK and entry.path.startswith(("site/", "lib/")):
            yield entry


class Compiler:
    """Compiles trees with a restored interpreter; see `lapidar.core.languages.protocol.Deriver`.

    Args:
        cache: in use by the caller.
        runtime: the runtime whose byte-code it is.
    """

    def __init__(self, cache: Cache, runtime: Runtime) -> None:
        self._cache = cache
        self._runtime = runtime
        self._key = f"{_tag(runtime)}-{runtime.version}"

    def known(self, digest: str) -> Tree | None:
        """The byte-code of a tree, where it was compiled before."""
        return self._cache.derived(digest, self._key)

    def forget(self, digest: str) -> None:
        """What is known of the byte-code of a tree is wrong: it is compiled anew the next time."""
        self._cache.derived_path(digest, self._key).unlink(missing_ok=True)

    def share(self, tree: Tree, relatives: Iterable[Tree]) -> None:
        """Take over the byte-code of the sources that a tree has as others have them, at the same paths. Where that is
        not all of it, the rest is compiled when the tree is placed."""
        if self.known(tree.digest):
            return
        known: dict[Entry, Entry | None] = {}  # None: a source that does not compile
        for relative in relatives:
            compiled = self.known(relative.digest)
            if compiled is not None:
                at = {entry.path: entry for entry in compiled}
                known |= {source: at.get(self._path(source.path)) for source in _sources(relative)}
        sources = list(_sources(tree))
        shared = Tree(entry for entry in map(known.get, sources) if entry)
        whole = all(source in known for source in sources)
        if whole or len(shared):
            self._cache.put_derived(tree.digest, self._key if whole else self._begun_key, shared)

    @property
    def _begun_key(self) -> str:
        return f"{self._key}{_BEGUN}"

    def _begun(self, digest: str) -> Tree:
        """What of a tree's byte-code others had; nothing where the cache has lost it."""
        shared = self._cache.derived(digest, self._begun_key)
        return shared if shared is not None and self._cache.has_files(shared) else Tree([])

    def derive(self, trees: Mapping[str, Tree], environment: Path, reporter: progress.Progress) -> dict[str, Tree]:
        """Compile the sources of trees and keep the byte-code in the cache.

        Args:
            trees: by their digests.
            environment: where the runtime was placed.

        Returns:
            The byte-code of each, by the same digests.

        Raises:
            EnvironmentUnusable: the interpreter does not run on this machine.
        """
        begun = {digest: self._begun(digest) for digest in trees}
        there = {(digest, entry.path) for digest, shared in begun.items() for entry in shared}
        jobs = [
            (digest, entry)
            for digest, tree in trees.items()
            for entry in _sources(tree)
            if (digest, self._path(entry.path)) not in there
        ]
        with self._cache.work_folder() as work:
            done = self._run(jobs, environment / "bin" / "python", work.path, reporter)
            drafts: dict[str, list[FileDraft]] = {digest: [] for digest in trees}
            for number, (digest, entry) in enumerate(jobs):
                target = f"{work.path}/{number}"
                if target in done:
                    drafts[digest].append(FileDraft(self._path(entry.path), target))
            stowed = stow(self._cache, drafts, None, progress.Silent())
        made = {digest: Tree([*begun[digest], *result.tree]) for digest, result in stowed.items()}
        for digest, tree in made.items():
            self._cache.put_derived(digest, self._key, tree)
            self._cache.derived_path(digest, self._begun_key).unlink(missing_ok=True)
        return made

    def _path(self, source: str) -> str:
        folder, _, name = source.rpartition("/")
        return f"{folder}/__pycache__/{name.removesuffix('.py')}.{_tag(self._runtime)}.pyc"

    def _run(
        self, jobs: Sequence[tuple[str, Entry]], interpreter: Path, work: Path, reporter: progress.Progress
    ) -> set[str]:
        """Share the sources out to one process a processor; gives the targets that were written."""
        lines = [
            (entry.bytes, json.dumps([self._cache.entry_path(entry), entry.path, entry.bytes, f"{work}/{number}"]))
            for number, (_, entry) in enumerate(jobs)
        ]
        sizes = {f"{work}/{number}": entry.bytes for number, (_, entry) in enumerate(jobs)}
        lines.sort(reverse=True)  # dealt out by size, so that all end at about the same time
        shares = [[line for _, line in lines[start::_WORKERS]] for start in range(_WORKERS)]
        finished: SimpleQueue[str | None] = SimpleQueue()
        done = set()
        with (
            # In bytes: what is left of them tells of the time, and of files, the largest first, it does not.
            progress.task(reporter, "Compiling byte-code", sum(sizes.values()), "bytes"),
            ThreadPoolExecutor(_WORKERS) as pool,
        ):
            running = [pool.submit(self._run_share, interpreter, share, finished) for share in shares]
            for target in _until_all(finished, len(shares)):
                reporter.advance(sizes.get(target, 0))
                done.add(target)
            for share in running:
                share.result()
        return done

    def _run_share(self, interpreter: Path, share: list[str], finished: SimpleQueue[str | None]) -> None:
        script = Path(__file__).with_name("_compiled.py").read_text("utf-8")
        command = [str(interpreter), "-I", "-S", "-B", "-c", script, str(FILE_TIME_SECONDS)]
        try:
            process = subprocess.Popen(
                command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
            )
            with ThreadPoolExecutor(1) as writer, process:
                assert process.stdin and process.stdout and process.stderr
                writer.submit(_feed, process, share)
                for line in process.stdout:
                    finished.put(line.rstrip("\n"))
                said = process.stderr.read()
            if process.returncode != 0:
                raise EnvironmentUnusable(
                    "The restored interpreter does not run on this machine",
                    why=(said.strip().splitlines() or [f"exit code {process.returncode}"])[-1],
                    remedy="Restore on a machine with a system like the one it was captured on.",
                )
        finally:
            finished.put(None)


def _feed(process: subprocess.Popen[str], share: list[str]) -> None:
    assert process.stdin
    try:
        process.stdin.write("".join(line + "\n" for line in share))
        process.stdin.close()
    except BrokenPipeError:
        pass  # it ended early; its exit code tells


def _until_all(finished: SimpleQueue[str | None], shares: int) -> Iterator[str]:
    """What the shares report, until each has ended."""
    while shares:
        item = finished.get()
        if item is None:
            shares -= 1
        else:
            yield item
