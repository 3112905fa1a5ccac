"""HTML pages from templates: self-contained, light or dark as the reader's system is, harmless
whatever the data say."""

from __future__ import annotations

import functools
from typing import Any

from kerfmark.visible import visible

LONGEST = 60
"""Letters of a cell that are shown."""


def shown(value: object) -> str:
    """A value as text in which nothing is obeyed; nothing for none."""
    return "\t".join(map(visible, ("" if value is None else str(value)).split("\t")))


@functools.cache
def _environment() -> Any:
    from jinja2 import Environment, PackageLoader
    from markupsafe import Markup

    def finalize(value: object) -> object:
        return value if isinstance(value, Markup) else shown(value)

    return Environment(
        loader=PackageLoader("kerfmark.draw"),
        autoescape=True,
        finalize=finalize,
        trim_blocks=True,
        lstrip_blocks=True,
    )


def render(template: str, **values: Any) -> str:
    """A whole page from a template of this room; what the values say is escaped."""
    text: str = _environment().get_template(template).render(**values)
    return text + "\n"


def shortened(text: str, most: int = LONGEST) -> str:
    """A text of at most so many letters."""
    return text if len(text) <= most else text[: most - 1] + "…"
