"""Walking folders of an environment: the files below them, and what becomes of symbolic links."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from msgspec import Struct, field

from lapidar.core.cache.stowing import Draft, FileDraft, LinkDraft

__all__ = ["Found", "drafts", "walk"]


class Found(NamedTuple):
    """A file or symbolic link: its path below the folder that was walked (or in a tree to be), and where it is."""

    path: str
    source: str
    link: bool


def _keep_all(path: str, folder: bool) -> bool:
    return True


def walk(
    top: str, keep: Callable[[str, bool], bool] = _keep_all, odd: Callable[[str], None] | None = None
) -> Iterator[Found]:
    """Everything below a folder, links not followed. Devices, pipes and sockets are passed over, and never opened.

    Args:
        top: the folder; one that is missing holds nothing.
        keep: asked for each relative path, and whether it is a folder; False leaves it out, with what is in it.
        odd: hears of the devices, pipes and sockets.

    Raises:
        OSError: a folder cannot be read.
    """
    waiting = [""]
    while waiting:
        prefix = waiting.pop()
        try:
            entries = os.scandir(f"{top}/{prefix}")
        except FileNotFoundError:
            continue
        with entries:
            for entry in entries:
                path = prefix + entry.name
                if entry.is_dir(follow_symlinks=False):
                    if keep(path, True):
                        waiting.append(path + "/")
                elif keep(path, False):
                    link = entry.is_symlink()
                    if link or entry.is_file(follow_symlinks=False):
                        yield Found(path, f"{top}/{path}", link)
                    elif odd:
                        odd(f"{top}/{path}")


class Drafted(Struct):
    """Drafts for a tree.

    Attributes:
        broken: the links that lead nowhere and were left out.
        foreign: likewise those that lead to what is not to be taken, each with where it leads.
    """

    drafts: list[Draft] = field(default_factory=list)
    broken: list[str] = field(default_factory=list)
    foreign: dict[str, str] = field(default_factory=dict)


def _anywhere(path: str) -> bool:
    return True


def drafts(
    found: Iterable[Found],
    keep: Callable[[str, bool], bool] = _keep_all,
    may_take: Callable[[str], bool] = _anywhere,
) -> Drafted:
    """Decide for each symbolic link: a link whose target is in the same tree stays a link, whatever it leads
    to; of one that leads out of it, the bytes it leads to are taken; one that leads nowhere is left out.

    Args:
        found: with their paths in the tree.
        keep: as for `walk`, for folders that a link leads to.
        may_take: asked for the real path of what lies behind a link that leads out of the tree.
    """
    result = Drafted()
    links = []
    paths = set()
    folders = {""}
    for path, source, link in found:
        paths.add(path)
        folder = posixpath.dirname(path)
        while folder not in folders:
            folders.add(folder)
            folder = posixpath.dirname(folder)
        if link:
            links.append((path, source))
        else:
            result.drafts.append(FileDraft(path, source))
    for path, source in links:
        target = os.readlink(source)
        landed = posixpath.normpath(posixpath.join(posixpath.dirname(path), target))
        if not target.startswith("/") and (landed in paths or landed in folders):
            result.drafts.append(LinkDraft(path, target))
        elif os.path.exists(source) and not may_take(os.path.realpath(source)):
            result.foreign[path] = os.path.realpath(source)
        elif os.path.isfile(source):
            result.drafts.append(FileDraft(path, source))
        elif os.path.isdir(source):
            _follow(path, source, keep, may_take, result)
        else:
            result.broken.append(path)
    return result


def _follow(
    path: str, source: str, keep: Callable[[str, bool], bool], may_take: Callable[[str], bool], into: Drafted
) -> None:
    """Take the files behind a link to a folder outside; links to folders below it are not followed again."""
    for below in walk(os.path.realpath(source), keep):
        if not os.path.isfile(below.source):
            continue
        place = f"{path}/{below.path}"
        if below.link and not may_take(real := os.path.realpath(below.source)):
            into.foreign[place] = real
        else:
            into.drafts.append(FileDraft(place, below.source))
