"""XML, HTML and SVG: by structure, and the texts in it as texts. Comments, dates that programs write into what they
make, the order of attributes, and names that are made up anew each time (ids of clip paths) do not count. A document
type that defines entities is refused: such can grow without an end, or read other files."""

from __future__ import annotations

import re
from html.parser import HTMLParser
from itertools import zip_longest
from typing import Any
from xml.parsers import expat

from lapidar.core import foreign
from lapidar.core.results.differences import Differences
from lapidar.core.results.kinds import pages
from lapidar.core.results.kinds.text import STAMP
from lapidar.core.results.tolerances import Rules
from lapidar.core.results.verdict import BeyondLimit, Found, Pair, Unreadable

__all__ = ["HEAD", "compare", "compare_drawing"]

_Event = tuple[str, str, tuple[tuple[str, str], ...]]
_DATES = re.compile(r"(dc|dcterms|xmp|xap):(date|created|modified|CreateDate|ModifyDate|MetadataDate)")
_METADATA = re.compile(r"(^|:)(metadata|RDF|xmpmeta|Description|Work)$")
_DEEPEST = 2000
HEAD = 2000  # characters in which a drawing says that it is one
_SPACED = frozenset(("pre", "textarea", "script", "style", "code"))
_NO_CONTENT = frozenset("area base br col embed hr img input link meta source track wbr".split())


def compare(pair: Pair, rules: Rules) -> Found:
    """Compare two documents, element by element."""
    return _compared(pair, rules).found()


def compare_drawing(pair: Pair, rules: Rules) -> Found:
    """Compare two drawings (SVG): as any document, and how far it can be seen."""
    differences = _compared(pair, rules)
    if differences.differs:
        pages.tell(pair, differences)
    return differences.found()


def _compared(pair: Pair, rules: Rules) -> Differences:
    differences = Differences(rules)
    texts = foreign.read(pair.before), foreign.read(pair.after)
    try:
        before, after = (_Names(_events(text)) for text in texts)
    except (expat.ExpatError, UnicodeDecodeError, ValueError, RecursionError) as error:
        raise Unreadable(str(error)[:200]) from error
    place: list[str] = []
    for one, other in zip_longest(before.events, after.events):
        if one is None or other is None or one[0] != other[0] or (one[0] != "text" and one[1] != other[1]):
            names = " -> ".join("nothing" if event is None else _called(event) for event in (one, other))
            differences.say(f"{'/'.join(place[-3:]) or 'the top'}: {names}")
            break
        _event(place, before, after, one, other, differences)
    return differences


def _is_of_writing(place: list[str]) -> bool:
    """Whether a text says when the document was written: the metadata of Dublin Core in a drawing, and XMP."""
    names = [one.partition("#")[0] for one in place]
    return bool(names) and _DATES.fullmatch(names[-1]) is not None and any(map(_METADATA.search, names[:-1]))


def _called(event: _Event) -> str:
    return f"the text {event[1][:40]!r}" if event[0] == "text" else f"<{'/' if event[0] == 'end' else ''}{event[1]}>"


def _event(place: list[str], before: _Names, after: _Names, one: _Event, other: _Event, into: Differences) -> None:
    if one[0] == "start":
        ones, others = dict(one[2]), dict(other[2])
        chosen = before.plain("", ones.get("id", ""))
        place.append(f"{one[1]}#{chosen}" if chosen and chosen == ones["id"] else one[1])
        where = "/".join(place[-3:])
        for name in sorted(ones.keys() ^ others.keys()):
            into.say(f"{where} {name}: {'gone' if name in ones else 'new'}")
        for name in sorted(ones.keys() & others.keys()):
            into.line(f"{where} {name}", name, before.plain(name, ones[name]), after.plain(name, others[name]))
    elif one[0] == "end":
        if place:
            place.pop()
    elif _is_of_writing(place) and one[1] != other[1] and STAMP.search(one[1]) and STAMP.search(other[1]):
        into.set_aside[f"when it was written ({'/'.join(place[-2:])})"] = None
    else:
        where = "/".join(place[-3:])
        field = place[-1].partition("#")[0] if place else ""
        into.line(f"{where} text", field, before.plain("", one[1]), after.plain("", other[1]))


class _Names:
    """A document's events; the names that it gives to its own parts become numbers, in the order they are given."""

    def __init__(self, events: list[_Event]) -> None:
        self.events = events
        given = [
            value for kind, _, attributes in events if kind == "start" for name, value in attributes if name == "id"
        ]
        # Those alone that nobody would choose.
        made_up = [name for name in given if re.fullmatch(r"\w*[0-9a-f]{8,}\w*", name)]
        self.numbers = {name: f"name-{at}" for at, name in enumerate(dict.fromkeys(made_up))}
        self.pattern = re.compile("|".join(map(re.escape, self.numbers))) if self.numbers else None

    def plain(self, name: str, text: str) -> str:
        """A text with its own made-up names as numbers."""
        return self.pattern.sub(lambda found: self.numbers[found[0]], text) if self.pattern else text


def _events(data: bytes) -> list[_Event]:
    head = data[:1000].lower()
    if b"<!doctype html" in head or (b"<html" in head and b"<?xml" not in head):
        return _Html().read(data.decode("utf-8-sig", "replace"))
    return _xml(data)


def _xml(data: bytes) -> list[_Event]:
    events: list[_Event] = []
    depth = depth_of_space = 0

    def start(name: str, attributes: dict[str, str]) -> None:
        nonlocal depth, depth_of_space
        depth += 1
        if depth_of_space or name in _SPACED or attributes.get("xml:space") == "preserve":
            depth_of_space += 1
        if depth > _DEEPEST:
            raise ValueError(f"it is nested deeper than {_DEEPEST}")
        events.append(("start", name, tuple(sorted(attributes.items()))))

    def end(name: str) -> None:
        nonlocal depth, depth_of_space
        depth -= 1
        depth_of_space = max(0, depth_of_space - 1)
        events.append(("end", name, ()))

    def refuse(*_: Any) -> None:
        raise BeyondLimit("it defines entities, which can grow without an end")

    parser = expat.ParserCreate()
    parser.buffer_text = True
    parser.StartElementHandler = start
    parser.EndElementHandler = end
    parser.CharacterDataHandler = lambda text: (
        events.append(("text", text if depth_of_space else text.strip(), ()))
        if depth_of_space or text.strip()
        else None
    )
    parser.EntityDeclHandler = refuse
    parser.Parse(data, True)
    return events


class _Html(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.events: list[_Event] = []
        self.spaced = 0  # in how many elements white space counts

    def read(self, text: str) -> list[_Event]:
        self.feed(text)
        self.close()
        return self.events

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.spaced += tag in _SPACED
        self.events.append(("start", tag, tuple(sorted((name, value or "") for name, value in attrs))))
        if tag in _NO_CONTENT:
            self.events.append(("end", tag, ()))

    def handle_endtag(self, tag: str) -> None:
        self.spaced = max(0, self.spaced - (tag in _SPACED))
        if tag not in _NO_CONTENT:
            self.events.append(("end", tag, ()))

    def handle_data(self, data: str) -> None:
        if self.spaced or data.strip():
            self.events.append(("text", data if self.spaced else " ".join(data.split()), ()))
