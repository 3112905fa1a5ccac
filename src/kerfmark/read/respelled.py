"""A file that writes some of its values in another form than the files before it, as they would
have written them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import pyarrow as pa

from kerfmark.read.source import Source
from kerfmark.read.wrapped import WrappedSource


class RespelledSource(WrappedSource):
    """A source some of whose columns are spelled otherwise: `spell` gives the texts for those of a
    file, by header; `written` says by header in which form the file has them."""

    def __init__(
        self,
        part: Source,
        written: Mapping[str, str],
        spell: Mapping[str, Callable[[pa.StringArray], pa.StringArray]],
    ) -> None:
        super().__init__(part, part.headers)
        self.how = part.how
        self._written, self._spell = dict(written), spell

    def changed(self, columns: list[pa.Array]) -> list[pa.Array]:
        """The columns, spelled as the files before spell them."""
        return [
            self._spell[header](column) if header in self._spell else column
            for header, column in zip(self.headers, columns, strict=True)
        ]

    def settings(self) -> dict[str, Any]:
        """What a layout must say to read the file."""
        return {**self.part.settings(), "written": self._written}
