"""How it is said which rows of a source are not data."""

from __future__ import annotations

import re

DUPLICATES = "duplicates"
"""Among the rows to skip: those that are the same as an earlier one in every column."""
KEEP_HEADERS = "keep-headers"
"""Among the rows to skip: the header is data where it is there once more."""
SKIPPED = re.compile(
    r"-?[1-9]\d*|[1-9]\d*-([1-9]\d*)?|>[1-9]\d*|headers|notes|totals|duplicates|keep-headers"
)
"""How rows that are not data are said: 5, -1 (the last one), 40-60, 40- (and all after it), >100
(all after the first hundred), or a kind of them."""
