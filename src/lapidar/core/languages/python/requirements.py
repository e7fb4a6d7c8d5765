"""Requirements as Python writes them, and the needs that a project declares with them."""

from __future__ import annotations

from packaging.requirements import InvalidRequirement, Requirement
from packaging.specifiers import SpecifierSet
from packaging.utils import canonicalize_name

from lapidar.core.errors import DeclarationError
from lapidar.core.records.declaration import Need

__all__ = ["in_order", "need", "parse", "requirement_of", "shown", "written"]


def need(requirement: Requirement, group: str = "", where: str = "") -> Need:
    """The need of a requirement."""
    name = canonicalize_name(requirement.name)
    return Need("python", name, written(requirement), group, where, requirement)


def written(requirement: Requirement) -> str:
    """A requirement as one writes it."""
    marker = f" ; {requirement.marker}" if requirement.marker else ""
    return f"{shown(requirement)}{marker}"


def in_order(ranges: SpecifierSet) -> str:
    """A range as one writes it: the lower bound first."""
    order = {"===": 0, "==": 0, "~=": 1, ">=": 1, ">": 1, "!=": 2, "<": 3, "<=": 3}
    return ",".join(text for _, text in sorted((order.get(one.operator, 9), str(one)) for one in ranges))


def requirement_of(one: Need) -> Requirement:
    """The requirement of a need of Python's."""
    assert isinstance(one.parsed, Requirement)
    return one.parsed


def parse(text: str, where: str = "", group: str = "") -> Need:
    """A need as one writes it.

    Raises:
        DeclarationError: it is not one (Dependency specifiers specification).
    """
    try:
        return need(Requirement(text), group, where)
    except InvalidRequirement as error:
        why = " ".join(str(error).split("\n")[0].split())
        raise DeclarationError(
            f"{text!r} is not a need" + (f" ({where})" if where else ""),
            why=why,
            remedy="Write it as NAME, NAME>=1.2,<2, NAME[extra], or NAME @ ADDRESS.",
        ) from error


def shown(requirement: Requirement) -> str:
    """A requirement without its marker, with the range as one writes it: the lower bound first."""
    if requirement.url:
        return f"{requirement.name} @ {requirement.url}"
    extras = f"[{','.join(sorted(requirement.extras))}]" if requirement.extras else ""
    return f"{requirement.name}{extras}{in_order(requirement.specifier)}"
