"""A cut on a cluster into the tables of a server: the same tables, rows, keys, rules and ledger as
by one machine; all of it or nothing, and nothing left over."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

import pytest

from cluster import Cluster
from cluster_cases import CASES
from engines import Target, target
from kerfmark.errors import DataRefused, KerfmarkError, TargetError, UsageError
from kerfmark.verbs.add import add
from kerfmark.verbs.cut import cut
from kerfmark.verbs.on_cluster import cut_on_cluster
from kerfmark.verbs.prove import prove
from test_cluster_add import split

RULES = """
SELECT conrelid::regclass::text, contype::text, pg_get_constraintdef(oid) FROM pg_constraint
WHERE connamespace = current_schema()::regnamespace
UNION ALL SELECT tablename::text, 'index', regexp_replace(indexdef, '[^ ]+[.]', '')
FROM pg_indexes WHERE schemaname = current_schema()
UNION ALL SELECT viewname::text, 'view', definition FROM pg_views
WHERE schemaname = current_schema()
UNION ALL SELECT table_name::text, column_name::text, data_type || ' ' || is_nullable
FROM information_schema.columns WHERE table_schema = current_schema()
"""
"""Everything that a schema of PostgreSQL consists of, in its own words."""


@pytest.fixture
def here(tmp_path: Path) -> Iterator[Target]:
    """A schema for one machine."""
    with target("PostgreSQL", tmp_path) as one:
        yield one


@pytest.fixture
def there(tmp_path: Path) -> Iterator[Target]:
    """A schema for a cluster."""
    with target("PostgreSQL", tmp_path) as one:
        yield one


def rules(one: Target) -> list[str]:
    """What a schema consists of, whatever it is called."""
    said = [" | ".join(map(str, row)) for row in one.ask(RULES)]
    return sorted(row.replace(schema_of(one), "SCHEMA") for row in said)


def schema_of(one: Target) -> str:
    """The name of a schema."""
    return one.url.partition("schema=")[2]


@pytest.mark.parametrize("case", ["natural_keys", "parts", "values_chosen"])
def test_the_tables_of_a_server_are_those_of_one_machine(
    case: str,
    running: Cluster,
    here: Target,
    there: Target,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setenv("KERFMARK_BLOCK", "4000")
    layout = tmp_path / "case.layout.toml"
    layout.write_text(CASES[case](tmp_path, random.Random(7)), encoding="utf-8")
    later = [split(f, tmp_path / "later") for f in [*tmp_path.glob("*.csv")]]
    shared = tmp_path / "shared"
    shared.mkdir()
    (shared / "of others").write_text("stays")
    made = cut([layout], str(here))
    by_cluster = cut_on_cluster([layout], str(there), running.address, shared=shared)
    assert there.dump() == here.dump() and rules(there) == rules(here)
    assert [(t.name, t.rows) for t in by_cluster.tables] == [(t.name, t.rows) for t in made.tables]  # type: ignore[union-attr]
    assert [p.name for p in shared.iterdir()] == ["of others"]
    assert [t for t in there.tables() if t.startswith("kerfmark_part")] == []
    assert by_cluster.database == there.shown
    proof = prove(str(there))
    assert proof.holds and not any(p.changed for p in proof.proofs)
    with pytest.raises(DataRefused) as refused:  # read in blocks, and still known again
        add([next(tmp_path.glob("*.csv"))], str(there))
    assert "this file was loaded already" in str(refused.value)
    for one in (here, there):
        add(later, str(one))
    assert there.dump() == here.dump()
    with pytest.raises(TargetError) as lost:  # before any work
        cut_on_cluster([layout], str(there), "spark://127.0.0.1:1", shared=shared, replace=True)
    assert "would be lost" in str(lost.value) and "--discard" in lost.value.next


def test_nothing_of_a_cut_that_fails_is_there_and_what_others_left_is_swept(
    running: Cluster, there: Target, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    layout = tmp_path / "case.layout.toml"
    layout.write_text(CASES["parts"](tmp_path, random.Random(7)), encoding="utf-8")
    there.do(
        f"CREATE SCHEMA {schema_of(there)}",
        "CREATE TABLE kerfmark_part_0123456789ab_000000 (a int)",  # of a program that was killed
        "CREATE TABLE kerfmark_part_mine (a int)",
    )
    address, shared = running.address, tmp_path / "shared"

    def failing(step: str, done: int, total: int) -> None:
        if step == "inserting":
            raise KerfmarkError("no more", code="test", next="nothing")

    with pytest.raises(KerfmarkError):
        cut_on_cluster([layout], str(there), address, shared=shared, progress=failing)
    assert there.tables() == ["kerfmark_part_mine"] and not shared.exists()
    cut_on_cluster([layout], str(there), address, shared=shared, rehearsal=True)
    assert there.tables() == ["kerfmark_part_mine"]
    cut_on_cluster([layout], str(there), address, shared=shared)
    with pytest.raises(TargetError) as refused:  # before any work
        cut_on_cluster([layout], str(there), "spark://127.0.0.1:1", shared=shared)
    assert "--replace" in refused.value.next
    before = there.dump()
    cut_on_cluster([layout], str(there), address, shared=shared, replace=True)
    assert there.dump() == before


def test_a_schema_that_is_not_there_is_made_with_the_tables_or_not_at_all(
    running: Cluster, there: Target, tmp_path: Path
) -> None:
    layout = tmp_path / "case.layout.toml"
    layout.write_text(CASES["natural_keys"](tmp_path, random.Random(7)), encoding="utf-8")
    asked = f"SELECT count(*) FROM pg_namespace WHERE nspname = '{schema_of(there)}'"
    for rehearsal, there_then in ((True, 0), (False, 1)):
        cut_on_cluster(
            [layout], str(there), running.address, shared=tmp_path / "s", rehearsal=rehearsal
        )
        assert there.ask(asked) == [there_then]
    assert there.ask("SELECT count(*) FROM entry") == [300]


def test_what_a_server_needs_is_told_before_the_work(tmp_path: Path) -> None:
    layout = tmp_path / "case.layout.toml"
    layout.write_text(CASES["parts"](tmp_path, random.Random(7)), encoding="utf-8")
    for into, shared, told in (
        ("postgresql://postgres@127.0.0.1/test", "", "name one with --shared FOLDER"),
        ("mysql://root@127.0.0.1/test", "s", "name a folder, or a server of PostgreSQL"),
    ):
        with pytest.raises(UsageError) as refused:
            cut_on_cluster([layout], into, "spark://127.0.0.1:1", shared=shared)
        assert told in f"{refused.value} {refused.value.next}"
