"""What to do about values that do not fit the type of their column, in the words of the layout,
with the option that does the same."""

from __future__ import annotations

import shlex

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kerfmark.layout.model import ColumnSpec
from kerfmark.profile.recognise import fitting_type
from kerfmark.profile.types import TEXT

FEW_WORDS, SHORT = 3, 12
"""Different words that may mean a blank, and their characters, at most."""
WIDEN = "--widen makes the column wide enough"
"""What is said where a load may widen a column; a cut decides the type."""
CORRECT = "correct the cells"


def of_misfits(
    values: pa.StringArray,
    wrong: np.ndarray,
    spec: ColumnSpec,
    place: str,
    source: str,
    required: bool,
) -> tuple[str, dict[str, str]]:
    """What to do about distinct values (of `source`) of which some (at these positions) do not fit
    the column at a `place` (TABLE.COLUMN), one way on a line; and, by line, the option of `mark`
    that does the same ("": none does, and the line is not for where options decide).

    The type that fits all, if there is one, comes first where none fits the one that is said; a
    type that a load may widen comes first of all; words may mean a blank.
    """
    if spec.of_type.width:
        longest = pc.max(pc.utf8_length(values)).as_py()
        wider = f'set type = "text({longest})" for {place} in the layout'
        option = f"--type {shlex.quote(f'{place}=text({longest})')} makes room"
        return "\n".join((WIDEN, CORRECT, wider)), {WIDEN: "", wider: option}
    fitting, every = fitting_type(values), len(wrong) == len(values)
    if fitting is None and not every:
        words = [str(values[int(i)]) for i in wrong[: FEW_WORDS + 1]]
        if len(words) > FEW_WORDS or any(len(w) > SHORT or any(map(str.isdigit, w)) for w in words):
            return CORRECT, {}
        said = ", ".join(f'"{w}"' for w in words)
        blank = f"set blanks = [{said}] in sources > {source} if nothing is meant"
        options = " ".join(f"--blank {shlex.quote(w)}" for w in words)
        options += f" --optional {place}" if required else ""
        return f"{CORRECT}\n{blank}", {blank: f"{options} if nothing is meant"}
    type_ = fitting or TEXT
    fits = f"fits all {len(values):,} different values" if len(values) > 1 else "fits the value"
    other = f'set type = "{type_}" for {place} in the layout'
    other += f": it {fits}" if fitting is not None else ""
    option = f"--type {shlex.quote(f'{place}={type_}')} "
    option += fits if fitting is not None else "keeps it as it is written"
    lines, decide = [other, CORRECT] if every else [CORRECT, other], {other: option}
    numbers = spec.of_type.kind == "decimal" and fitting is not None
    if numbers and fitting is not None and fitting.kind in ("decimal", "integer"):
        lines, decide = [WIDEN, *lines], decide | {WIDEN: ""}
    return "\n".join(lines), decide
