"""Makes a long and narrow file for the benchmarks: what sensors in hives have read, four columns.

    python bench/make_readings.py ROWS OUT.csv

Always the same bytes for the same number of rows.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

BATCH = 500_000


def make_readings(rows: int, out: Path) -> None:
    """Writes the file: 2,000 sensors, one reading after the other."""
    rng = np.random.default_rng(20250401)
    sensors = pa.array([f"S{n:04}" for n in range(2000)])
    grams = pa.array([f"{n / 100:.2f}" for n in range(1000, 9000)])
    degrees = pa.array([str(n) for n in range(-20, 60)])
    start_at = np.datetime64("2024-01-01T00:00:00")
    with out.open("wb") as file:
        file.write(b"sensor,taken at,kg,degrees\n")
        for start in range(0, rows, BATCH):
            n = min(BATCH, rows - start)
            at = start_at + ((start + np.arange(n)) // 2000 * 60).astype("timedelta64[s]")
            cells = [
                sensors.take(pa.array((start + np.arange(n)) % 2000)),
                pc.strftime(pa.array(at.astype("datetime64[s]")), "%Y-%m-%d %H:%M:%S"),
                grams.take(pa.array(rng.integers(0, len(grams), n))),
                degrees.take(pa.array(rng.integers(0, len(degrees), n))),
            ]
            lines = pc.binary_join_element_wise(pc.binary_join_element_wise(*cells, ","), "\n", "")
            file.write(b"".join(lines.to_numpy(zero_copy_only=False).astype("S").tolist()))


if __name__ == "__main__":
    make_readings(int(sys.argv[1]), Path(sys.argv[2]))
