"""How servers load a flat file by their own clients: into one table of texts, without types, keys,
links or indexes."""

from __future__ import annotations

import subprocess
from pathlib import Path

from kerfmark.address import address

SCHEMA = "kerfmark_bench"


class Fresh:
    """Makes the schema or database of the benchmark anew, or only takes it away."""

    def __init__(self, ask: list[str], statements: list[str]) -> None:
        self.ask, self.statements = ask, statements

    def __call__(self, *, again: bool = True) -> None:
        for statement in self.statements if again else self.statements[:1]:
            subprocess.run([*self.ask, statement], check=True, capture_output=True)


def own_loader(url: str, flat: Path, headers: list[str]) -> tuple[Fresh, list[str]]:
    """How a server's own client loads a flat file, and what must be done before."""
    where = address(url)
    if where.engine.name == "postgresql":
        client = ["psql", "-q", "-v", "ON_ERROR_STOP=1", url]
        columns = ", ".join(f'"{h}" text' for h in headers)
        return (
            Fresh(
                [*client, "-c"],
                [f"DROP SCHEMA IF EXISTS {SCHEMA} CASCADE", f"CREATE SCHEMA {SCHEMA}"],
            ),
            [
                *client,
                "-1",
                "-c",
                f"CREATE TABLE {SCHEMA}.flat ({columns})",
                "-c",
                f"\\copy {SCHEMA}.flat FROM '{flat}' WITH (FORMAT csv, HEADER)",
            ],
        )
    client = [
        "mariadb",
        f"-h{where.host}",
        f"-P{where.port}",
        f"-u{where.user}",
        "--local-infile=1",
    ]
    columns = ", ".join(f"`{h}` text" for h in headers)
    return (
        Fresh([*client, "-e"], [f"DROP DATABASE IF EXISTS {SCHEMA}", f"CREATE DATABASE {SCHEMA}"]),
        [
            *client,
            "-e",
            f"CREATE TABLE {SCHEMA}.flat ({columns}); LOAD DATA LOCAL INFILE '{flat}' INTO TABLE "
            f"{SCHEMA}.flat "
            "CHARACTER SET utf8mb4 FIELDS TERMINATED BY ',' OPTIONALLY ENCLOSED BY '\"' LINES "
            "TERMINATED BY '\\n' "
            "IGNORE 1 LINES",
        ],
    )
