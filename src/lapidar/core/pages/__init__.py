"""Pages of HTML, made of the templates that lie here: they need no network and no script, can be printed, and are
readable in the dark and on a telephone. All have one style sheet."""

from __future__ import annotations

import functools
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from jinja2 import Environment

__all__ = ["render"]


def render(template: str, **values: Any) -> str:
    """A page, or a part of one.

    Args:
        template: its name; that of a page without the suffix.
        values: what it shows. Texts are escaped; what no terminal could print is shown as such.
    """
    name = template if "." in template else f"{template}.html"
    return _templates().get_template(name).render(**values)


@functools.cache
def _templates() -> Environment:
    from jinja2 import Environment, PackageLoader, StrictUndefined

    return Environment(
        loader=PackageLoader("lapidar.core", "pages"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
        finalize=_printable,
    )


def _printable(value: Any) -> Any:
    """Templates and what is markup already have no such characters."""
    if not isinstance(value, str) or hasattr(value, "__html__"):
        return value
    return "".join(char if char.isprintable() or char == "\n" else "\ufffd" for char in value)
