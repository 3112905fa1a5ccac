"""Makes a long file for the benchmarks in which nearly every row names something that no other row
does: checks of jars of honey.

    python bench/make_jars.py ROWS OUT.csv

Five in six jars are checked once, the others twice: ROWS x 20/23 labels. Always the same bytes for
the same number of rows.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

BATCH = 460_000
PER_BATCH = BATCH * 20 // 23


def make_jars(rows: int, out: Path) -> None:
    """Writes the file: label, honey and weight of a jar (decided by its label), day and result of
    the check."""
    rng = np.random.default_rng(20250402)
    honeys = pa.array(
        [
            "linden",
            "acacia",
            "chestnut",
            "heather",
            "clover",
            "forest",
            "spring blossom",
            "summer blossom",
        ]
    )
    grams = pa.array([str(n) for n in (125, 250, 500, 1000)])
    results = pa.array(["good", "sealed badly", "label missing", "too moist"])
    days = pc.strftime(
        pa.array(np.datetime64("2025-01-01") + np.arange(365)).cast(pa.timestamp("s")), "%Y-%m-%d"
    )
    with out.open("wb") as file:
        file.write(b"label,honey,grams,checked on,result\n")
        for start in range(0, rows, BATCH):
            n = min(BATCH, rows - start)
            first = start // BATCH * PER_BATCH
            once = np.arange(n * 20 // 23)
            jar = first + rng.permutation(np.concatenate([once, once[: n - len(once)]]))
            scrambled = (
                jar * 7_368_787 % 99_999_989
            )  # labels do not count: no two neighbours are alike
            label = pc.binary_join_element_wise(
                "J", pc.utf8_lpad(pa.array(scrambled).cast(pa.string()), 8, "0"), "-DE", ""
            )
            cells = [
                label,
                honeys.take(pa.array(scrambled % 8)),
                grams.take(pa.array(scrambled // 8 % 4)),
                days.take(pa.array(rng.integers(0, 365, n))),
                results.take(pa.array(rng.integers(0, 4, n))),
            ]
            lines = pc.binary_join_element_wise(pc.binary_join_element_wise(*cells, ","), "\n", "")
            file.write(b"".join(lines.to_numpy(zero_copy_only=False).astype("S").tolist()))


if __name__ == "__main__":
    make_jars(int(sys.argv[1]), Path(sys.argv[2]))
