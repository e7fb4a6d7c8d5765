"""How steps stand, in words: for ``lapidar steps``, ``refresh`` and ``lineage``, and for what is drawn of them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence

    from lapidar.core.steps.graph import Step
    from lapidar.core.steps.standing import Reason

__all__ = ["NOTHING", "as_json", "grouped", "reason_text", "rows", "why", "why_text"]

NOTHING = "No analysis is recorded or declared here. For example: lapidar record -- python analysis.py"


def reason_text(reason: Reason, step: Step | None = None) -> str:
    """Why a step is out of date: ``raw/finds.csv changed``.

    Args:
        step: says whose result a file is.
    """
    from lapidar.core.steps.standing import Cause

    name = reason.name
    versions = f"{name} {reason.before} -> {reason.after}"
    if not reason.before:
        versions = f"{name} {reason.after} is new".replace("  ", " ")
    elif not reason.after:
        versions = f"{name} {reason.before} is gone"
    elif reason.before == reason.after:
        versions = f"{name} {reason.after} has other bytes"
    match reason.cause:
        case Cause.COMMAND:
            return "its command changed"
        case Cause.SOURCE | Cause.INPUT:
            maker = next((one for one, files in step.after.items() if name in files), "") if step else ""
            return f"what {maker} made changed ({name})" if maker else f"{name} changed"
        case Cause.GONE:
            return f"{name} is gone"
        case Cause.APPEARED:
            return f"{name} is new, and was looked for"
        case Cause.VARIABLE:
            return f"the variable {name} was {reason.before or 'not set'}, and is {reason.after or 'not set'}"
        case Cause.NUMERICS:
            return f"numerics were {reason.before}, and are {reason.after}"
        case Cause.USED:
            return f"{versions}, which it uses" if reason.before or reason.after else f"{name} changed, which it uses"
        case Cause.LOOKED_FOR:
            return f"{versions}, which it looked for"
        case Cause.ENVIRONMENT:
            return "the environment is another, and what it used of it is not known here"
        case Cause.UNLISTED:
            return "the list of what it read is in another cache"
        case Cause.RESULT_GONE:
            return f"its result {name} is gone"
        case Cause.RESULT_ALTERED:
            return f"its result {name} was changed since"
    return str(reason.cause)


def why(step: Step) -> list[str]:
    """Everything that is to be said of a step's standing."""
    if step.odds:
        return list(step.odds)
    if step.failed:
        return [step.failed]
    from lapidar.core.steps.graph import Standing

    if step.standing is Standing.WAITS:
        names = (name.partition("[")[0] if name.endswith("]") else name for name in step.waits_for)
        return [", ".join(dict.fromkeys(names))]
    return [reason_text(one, step) for one in step.reasons]


def why_text(step: Step) -> str:
    """The first of it, and how many more there are."""
    told = why(step)
    return told[0] + (f"; {len(told) - 1} more" if len(told) > 1 else "") if told else ""


def as_json(step: Step) -> dict[str, Any]:
    """A step, for machines."""
    analysis = step.analysis
    return {
        "name": step.name,
        "standing": str(step.standing),
        "why": why(step),
        "reasons": [one._asdict() for one in step.reasons],
        "after": {name: list(files) for name, files in step.after.items()},
        "waits_for": step.waits_for,
        "command": list(step.command),
        "sweep": step.declared.part_of,
        "values": step.declared.values,
        "seconds": step.seconds,
        "results": [file.path for file in analysis.result] if analysis else [],
        "inputs": [file.path for file in analysis.input] if analysis else [],
        "sources": [file.path for file in analysis.source] if analysis else [],
        "talked_to": list(step.used.partners),
    }


def rows(steps: Sequence[Step], seconds: Any) -> list[list[str]]:
    """Rows of a table: name, standing, why, how long; a sweep is one."""
    found: list[list[str]] = []
    for several in grouped(steps):
        times = [step.seconds for step in several if step.seconds is not None]
        took = seconds(sum(times)) if times else "-"
        step = next((one for one in several if not one.is_good), several[0])
        if not step.declared.part_of:
            found.append([step.name, str(step.standing), why_text(step), took])
            continue
        bad = sum(not one.is_good for one in several)
        told = f"{bad} of {len(several)}: {why_text(step)}".removesuffix(": ") if bad else ""
        found.append([f"{step.declared.part_of} ({len(several)} runs)", str(step.standing), told, took])
    return found


def grouped(steps: Sequence[Step]) -> list[list[Step]]:
    """Steps, those of a sweep together where its first stands."""
    found: dict[str, list[Step]] = {}
    for step in steps:
        found.setdefault(step.declared.part_of or f"\0{step.name}", []).append(step)
    return list(found.values())
