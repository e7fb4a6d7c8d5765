"""The resolver: needs -> exact versions that fit together, or the facts that keep them from it.

Conflict-driven, as the literature describes it for satisfiability: decide, propagate, and where that ends in a
contradiction, resolve it back to a new incompatibility, jump back and never try the same again. Every package is a
variable whose values are its versions and "absent", in the order of preference; a set of values is the bits of a
whole number. Any need is then an incompatibility over such sets ("sherdplot is 2.1 and numpy is absent or 2 or
newer"), and all set algebra is exact, whatever versions look like.

Complete: it finds an answer if there is one. Deterministic: the same needs and the same universe give the same
answer. The first in the order of preference wins, for each package, given what was decided before it.
"""

from __future__ import annotations

import heapq
from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple, Protocol

from msgspec import Struct

__all__ = ["Fact", "Solver", "Universe", "Unsolvable", "Version", "Wish", "key_of"]

# Of whatever kind its language has: hashable, in an order, and written by `str`.
Version = Any

ABSENT = 1  # the bit of "not chosen"
SAME = ""  # the text of the wish by which a package with an extra is tied to the package itself


class Wish(NamedTuple):
    """Somebody's need of a package, its marker already found true.

    Attributes:
        name: normalised.
        extras: normalised, sorted.
        range: of versions, as its language has it; None where any version will do.
        text: as it was written.
        where: who declares it, for a need of the project.
    """

    name: str
    extras: tuple[str, ...]
    range: Any
    text: str
    where: str = ""


class Universe(Protocol):
    """What there is to choose from."""

    def versions(self, name: str) -> Sequence[Version]:
        """The versions of a package that may be chosen, the most wanted first."""

    def fitting(self, wish: Wish, versions: Sequence[Version]) -> int:
        """Which of the versions of a package, in the order of `versions`, are in a wish's range: of the one at index
        `at`, the bit ``2 << at``. Which pre-releases there are to choose from is decided elsewhere."""

    def wishes(self, name: str, version: Version, extra: str) -> Sequence[Wish] | None:
        """What a version needs (with an extra, if one is given); None where that cannot be known, so that it cannot
        be chosen."""

    def soon(self, wishes: Sequence[Wish]) -> None:
        """These will be asked for next."""


class Fact(Struct, frozen=True):
    """One thing that is so, and that an answer must respect.

    Attributes:
        package: the key (name, or name with an extra) that needs something; "" for the project itself.
        version: of that package; None where `package` is "".
        wish: what it needs; None where the version itself cannot be used.
        limit: whether it only limits the range, and does not ask for the package.
    """

    package: str
    version: Version | None
    wish: Wish | None
    limit: bool = False


class Unsolvable(Exception):
    """There is no answer.

    Attributes:
        facts: those that exclude one another, in the order in which one meets them when one follows the needs.
    """

    def __init__(self, facts: list[Fact]) -> None:
        super().__init__("the needs cannot be met together")
        self.facts = facts


def key_of(name: str, extra: str = "") -> str:
    """What a package, or a package with an extra, is called while it is resolved."""
    return f"{name}[{extra}]" if extra else name


class _Incompatibility(NamedTuple):
    """Sets of values that must not all hold: key -> bits. Why: a fact, or the two that it follows from."""

    terms: dict[str, int]
    fact: Fact | None
    parents: tuple[_Incompatibility, ...]


class _Step(NamedTuple):
    """One narrowing of what a key may still be; `cause` is None for a decision."""

    key: str
    before: int
    after: int
    level: int
    cause: _Incompatibility | None


class Solver:
    """Solves one problem.

    Args:
        universe: what there is.
        roots: what is asked for.
        limits: ranges that hold for packages if they are chosen.
    """

    def __init__(self, universe: Universe, roots: Sequence[Wish], limits: Sequence[Wish] = ()) -> None:
        self.universe = universe
        self._versions: dict[str, Sequence[Version]] = {}
        self._masks: dict[tuple[str, str], int] = {}
        self._may_be: dict[str, int] = {}
        # Each with what it says of the key, and its narrowest other term: mostly these two tell that there is nothing
        # to do.
        self._by_key: dict[str, list[tuple[int, str, int, _Incompatibility]]] = {}
        self._steps: list[_Step] = []
        self._of_key: dict[str, list[int]] = {}  # the numbers of the steps that narrowed a key
        self._level = 0
        self._chosen: set[tuple[str, int]] = set()  # by decisions that stand
        self._learned: set[tuple[str, int]] = set()  # whose needs are among the incompatibilities
        self._trouble: dict[str, int] = {}
        self._order: dict[str, int] = {}
        self._open: list[tuple[int, int, str]] = []  # a heap of what may be open: rank, order, key
        self.conflicts = 0  # how often something had to be taken back
        self.lacking: list[tuple[str, Version, Wish]] = []  # versions that need what there is no version of
        self._roots = roots
        self._limits = limits

    def solve(self) -> dict[str, Version]:
        """Find the answer.

        Returns:
            The version of every key that is chosen; a package with an extra stands beside the package itself.

        Raises:
            Unsolvable: there is none.
        """
        self.universe.soon(self._roots)
        changed = []
        for wish in self._limits:
            changed += self._add_wish({}, wish, Fact("", None, wish, limit=True), only_limits=True)
        for wish in self._roots:
            changed += self._add_wish({}, wish, Fact("", None, wish))
        self._propagate(changed)
        while (key := self._next()) is not None:
            self._propagate(self._decide(key))
        return {key: self._version(_name(key), mask) for key, mask in sorted(self._may_be.items()) if not mask & ABSENT}

    # ---- values

    def _remaining(self, key: str) -> int:
        found = self._may_be.get(key)
        if found is None:
            name = _name(key)
            if name not in self._versions:
                self._versions[name] = self.universe.versions(name)
            found = self._may_be[key] = (2 << len(self._versions[name])) - 1
            self._order[key] = len(self._order)
            if key != name:
                self._remaining(name)
        return found

    def _full(self, key: str) -> int:
        self._remaining(key)
        return (2 << len(self._versions[_name(key)])) - 1

    def _version(self, name: str, bit: int) -> Version:
        return self._versions[name][bit.bit_length() - 2]

    def _fitting(self, wish: Wish) -> int:
        """The bits of the versions that a wish allows."""
        cached = (wish.name, str(wish.range))
        found = self._masks.get(cached)
        if found is None:
            self._remaining(wish.name)
            versions = self._versions[wish.name]
            everything = (2 << len(versions)) - 2
            found = everything if wish.range is None else self.universe.fitting(wish, versions)
            self._masks[cached] = found
        return found

    # ---- incompatibilities

    def _add_wish(self, whose: dict[str, int], wish: Wish, fact: Fact, *, only_limits: bool = False) -> list[str]:
        """If `whose` holds, the wish must be met. Returns the keys to look at again."""
        allowed = self._fitting(wish)
        changed: list[str] = []
        for key in (wish.name, *(key_of(wish.name, extra) for extra in wish.extras)):
            outside = self._full(key) & ~(allowed | ABSENT if only_limits else allowed)
            if key in whose:  # a package that needs itself, with an extra or without
                terms = {**whose, key: whose[key] & outside}
                if not terms[key]:
                    continue
            else:
                terms = {**whose, key: outside}
            self._add(_Incompatibility(terms, fact, ()))
            changed += terms
        return changed

    def _add(self, incompatibility: _Incompatibility) -> None:
        narrowest = sorted(incompatibility.terms.items(), key=lambda term: term[1].bit_count())[:2]
        for key in incompatibility.terms:
            other, bits = next((term for term in narrowest if term[0] != key), (key, incompatibility.terms[key]))
            self._remaining(other)
            self._by_key.setdefault(key, []).append((incompatibility.terms[key], other, bits, incompatibility))

    # ---- deciding

    def _next(self) -> str | None:
        """The key to decide next: whichever made trouble before, then in the order of their discovery."""
        while self._open:
            rank, _, key = self._open[0]
            mask = self._may_be[key]
            if not mask & ABSENT and (key, mask) not in self._chosen and rank == self._rank(key):
                return key
            heapq.heappop(self._open)  # whenever it is open again, or its rank another, it is offered again
        return None

    def _rank(self, key: str) -> int:
        return -(self._trouble.get(key, 0) // 4)

    def _offer(self, key: str) -> None:
        """It may be open now, or open with another rank."""
        if not self._may_be[key] & ABSENT:
            heapq.heappush(self._open, (self._rank(key), self._order[key], key))

    def _decide(self, key: str) -> list[str]:
        """Choose the most wanted version left, and learn what it needs."""
        mask = self._remaining(key)
        bit = mask & -mask
        name, _, extra = key.rstrip("]").partition("[")
        version = self._version(name, bit)
        changed = [key]
        if (key, bit) not in self._learned:
            self._learned.add((key, bit))
            changed += self._learn_needs(key, name, extra, version, bit)
        self._level += 1
        self._narrow(key, bit, None)
        self._chosen.add((key, bit))
        return changed

    def _learn_needs(self, key: str, name: str, extra: str, version: Version, bit: int) -> list[str]:
        changed: list[str] = []
        if extra:
            same = Wish(name, (), version, SAME)
            self._add(_Incompatibility({key: bit, name: self._full(name) & ~bit}, Fact(key, version, same), ()))
            changed.append(name)
        wishes = self.universe.wishes(name, version, extra)
        if wishes is None:
            self._add(_Incompatibility({key: bit}, Fact(key, version, None), ()))
            return changed
        self.universe.soon(wishes)
        for wish in wishes:
            changed += self._add_wish({key: bit}, wish, Fact(key, version, wish))
            if not self._versions[wish.name]:
                self.lacking.append((name, version, wish))
        return changed

    # ---- propagating

    def _narrow(self, key: str, allowed: int, cause: _Incompatibility | None) -> None:
        before = self._remaining(key)
        self._of_key.setdefault(key, []).append(len(self._steps))
        self._steps.append(_Step(key, before, before & allowed, self._level, cause))
        self._may_be[key] = before & allowed
        self._offer(key)

    def _propagate(self, changed: Iterable[str]) -> None:
        waiting = list(dict.fromkeys(changed))
        may_be = self._may_be
        while waiting:
            key = waiting.pop()
            # The newest first: what was learned last is the most telling.
            for own, other, bits, incompatibility in reversed(self._by_key.get(key, ())):
                left = may_be[other]
                # The other does not hold any more; or both are open.
                if other != key and (not left & bits or (left & ~bits and may_be[key] & ~own)):
                    continue
                told = self._judge(incompatibility)
                if told is None:
                    continue
                if told == "":
                    learned = self._resolve(incompatibility)
                    unit = self._judge(learned)
                    assert unit, "what was learned must say something new"
                    self._narrow(unit, ~learned.terms[unit], learned)
                    waiting = [unit]
                    break
                self._narrow(told, ~incompatibility.terms[told], incompatibility)
                if told not in waiting:
                    waiting.append(told)

    def _judge(self, incompatibility: _Incompatibility) -> str | None:
        """The one key that is open while all others hold; "" where all hold; None where there is nothing to do."""
        open_key = ""
        for key, bits in incompatibility.terms.items():
            remaining = self._remaining(key)
            if not remaining & ~bits:
                continue
            if not remaining & bits or open_key:
                return None
            open_key = key
        return open_key

    # ---- conflicts

    def _resolve(self, conflict: _Incompatibility) -> _Incompatibility:
        """Follow a conflict to its causes until it tells what to do at an earlier level, and go back there."""
        self.conflicts += 1
        for key in conflict.terms:
            self._trouble[key] = self._trouble.get(key, 0) + 1
            self._remaining(key)
            self._offer(key)
        while conflict.terms:
            held = {key: self._held_since(key, bits) for key, bits in conflict.terms.items()}
            last = max(held, key=lambda key: held[key])
            if held[last] < 0:
                break  # it holds whatever is chosen
            step = self._steps[held[last]]
            earlier = max((self._level_of(number) for key, number in held.items() if key != last), default=0)
            if earlier < step.level:
                self._back_to(earlier)
                self._add(conflict)
                return conflict
            assert step.cause is not None, "a decision is the first step of its level"
            conflict = _resolved(conflict, step.cause, last, self._full(last))
        raise Unsolvable(_facts(conflict))

    def _held_since(self, key: str, bits: int) -> int:
        """The number of the step since which a key's values lie in a set; -1 for always."""
        if bits == self._full(key):
            return -1
        for number in self._of_key.get(key, ()):
            if not self._steps[number].after & ~bits:
                return number
        return -1

    def _level_of(self, number: int) -> int:
        return self._steps[number].level if number >= 0 else 0

    def _back_to(self, level: int) -> None:
        while self._steps and self._steps[-1].level > level:
            step = self._steps.pop()
            self._of_key[step.key].pop()
            self._may_be[step.key] = step.before
            if step.cause is None:
                self._chosen.discard((step.key, step.after))
            self._offer(step.key)
        self._level = level


def _name(key: str) -> str:
    return key.partition("[")[0]


def _resolved(one: _Incompatibility, other: _Incompatibility, key: str, full: int) -> _Incompatibility:
    """The resolvent of two incompatibilities: what follows from both whatever `key` is."""
    terms = dict(one.terms)
    for name, bits in other.terms.items():
        terms[name] = terms[name] & bits if name in terms and name != key else bits
    terms[key] = one.terms[key] | other.terms[key]
    if terms[key] == full:
        del terms[key]
    return _Incompatibility(terms, None, (one, other))


def _facts(conflict: _Incompatibility) -> list[Fact]:
    """All facts that a contradiction follows from, the project's own first, then along the needs."""
    found: dict[Fact, None] = {}
    seen: set[int] = set()
    waiting = [conflict]
    while waiting:
        one = waiting.pop()
        if id(one) in seen:
            continue
        seen.add(id(one))
        if one.fact is not None:
            found[one.fact] = None
        waiting += one.parents
    return _along_the_needs(list(found))


def _along_the_needs(facts: list[Fact]) -> list[Fact]:
    by_package: dict[str, list[Fact]] = {}
    for fact in sorted(facts, key=lambda fact: (fact.package, str(fact.version), fact.wish.text if fact.wish else "")):
        by_package.setdefault(_name(fact.package), []).append(fact)
    ordered: list[Fact] = []
    waiting = [""]
    met = {""}
    while waiting:
        for fact in by_package.pop(waiting.pop(0), []):
            ordered.append(fact)
            if fact.wish and fact.wish.name not in met:
                met.add(fact.wish.name)
                waiting.append(fact.wish.name)
    return ordered + [fact for rest in by_package.values() for fact in rest]
