"""What a person decides otherwise: each wrong proposal is put right by one option or two, and what an
option cannot do is told. Nothing is proposed that a cut refuses, whatever the rules say."""

from __future__ import annotations

import csv
import html
import random
import re
import shlex
import sqlite3
from pathlib import Path
from typing import Any

import pytest

from conftest import Runner
from kerfmark import Steering, UsageError, add, cut, mark, prove
from kerfmark.structure import propose as proposing
from kerfmark.structure.entities import Entity

KEEPERS = [(f"K{i:02}", f"Ada {i}", ("Weir", "Mill", "Ford")[i % 3]) for i in range(20)]


@pytest.fixture
def visits(tmp_path: Path) -> Path:
    """Visits to hives, numbered within keepers; a helper is a keeper, a mood is only a mood."""
    rng = random.Random(5)
    kind = {(k, n): rng.choice(["long", "stack"]) for k in range(20) for n in range(1, 4)}
    with (tmp_path / "visits.csv").open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(
            [
                "visit no",
                "keeper no",
                "keeper name",
                "town",
                "hive no",
                "hive kind",
                "mood",
                "helper no",
                "helper name",
                "kg",
            ]
        )
        for i in range(300):
            k, n = rng.randrange(20), rng.randint(1, 3)
            helper = KEEPERS[rng.randrange(20)][:2]
            mood, kg = rng.choice(["calm", "wild"]), rng.randint(1, 99)
            writer.writerow([i + 1, *KEEPERS[k], n, kind[k, n], mood, *helper, kg])
    return tmp_path / "visits.csv"


def tables(path: Path, **said: Any) -> dict[str, set[str]]:
    """The columns of the tables that are built, which are proven."""
    database = path.with_suffix(".db")
    made = cut([path], database, replace=True, steering=Steering(**said))
    assert prove(database).holds
    return {t.name: {*t.columns} for t in made.tables}


def test_the_proposal_without_a_word(visits: Path) -> None:
    assert tables(visits) == {
        "visit": {"visit_no", "mood", "kg"},
        "hive": {"hive_no", "hive_kind"},
        "keeper": {"keeper_no", "keeper_name", "town"},
    }


def test_a_column_becomes_a_table_though_nothing_depends_on_it(visits: Path) -> None:
    assert tables(visits, known_by=(("mood",),))["mood"] == {"mood"}
    found = tables(visits, known_by=(("town",),))  # it is in a table already
    assert found["town"] == {"town"} and found["keeper"] == {"keeper_no", "keeper_name"}


def test_columns_are_a_key_together(visits: Path) -> None:
    found = tables(visits, known_by=(("town", "mood"),))
    assert found["mood"] == {"town", "mood"} and found["visit"] == {"visit_no", "kg"}


def test_a_key_with_a_part_that_is_filled_where_the_other_is_not(visits: Path) -> None:
    rows = [line.split(",") for line in visits.read_text().splitlines()]
    for row in rows[5:15]:
        row[6] = ""
    visits.write_text("".join(",".join(r) + "\n" for r in rows))
    found = tables(visits, known_by=(("helper no", "mood"),))
    assert found["helper"] == {"mood"} and found["visit"] == {"visit_no", "kg"}


def test_what_is_no_table_goes_to_what_referred_to_it(visits: Path) -> None:
    found = tables(visits, no_table=(("keeper no", "hive no"),))
    assert "hive" not in found and {"hive_no", "hive_kind"} <= found["visit"]
    found = tables(visits, no_table=(("keeper no",),))
    assert "keeper" not in found and {"keeper_name", "town"} <= found["hive"]
    notes = dict(mark([visits], steering=Steering(no_table=(("town",),))).notes)
    assert "no table" in notes["town"]


def test_what_is_not_unique_is_no_key_and_nothing_refers_to_it(visits: Path) -> None:
    again = visits.with_name("again.csv")
    again.write_text("".join(visits.read_text().splitlines(keepends=True)[:4]))
    assert "visit_no" in tables(visits, not_unique=("visit no",))["visit"]
    add([again], visits.with_suffix(".db"))
    assert prove(visits.with_suffix(".db")).holds


def test_two_columns_mean_records_of_one_table(visits: Path) -> None:
    apart = tables(visits, apart=(("keeper no", "helper no"),))
    assert {"keeper", "helper"} <= apart.keys()
    rows = [line.split(",") for line in visits.read_text().splitlines()]
    for i, row in enumerate(rows[1:]):  # of eight helpers only two are keepers: no evidence
        row[7:9] = KEEPERS[i % 8][:2] if i % 8 < 2 else [f"X{i % 8}", f"Bo {i % 8}"]
    visits.write_text("".join(",".join(r) + "\n" for r in rows))
    assert "helper" in tables(visits)
    assert "helper" not in tables(visits, same_as=(("helper no", "keeper no"),))


def test_what_was_asked_for_is_not_given_up(visits: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A key that a person says stays proposed, and it is told that a cut refuses it."""
    right = proposing.find_entities

    def wrong(*args: Any) -> Entity:
        base = right(*args)
        base.parents.append(Entity([6], [], [9], [], 2))  # mood decides kg: it does not
        base.columns = [c for c in base.columns if c not in (6, 9)]
        base.parents = [p for p in base.parents if p.key != [6] or 9 in p.columns]
        return base

    monkeypatch.setattr(proposing, "find_entities", wrong)
    made = mark([visits], steering=Steering(known_by=(("mood",),)))
    assert "mood" in [t.name for t in made.tables]
    assert any("a cut refuses this, though it was asked for" in a for a in made.against)


def test_a_column_alone_means_records_of_a_table_of_the_same_file(visits: Path) -> None:
    rows = [line.split(",") for line in visits.read_text().splitlines()]
    visits.write_text("".join(",".join(r[:8] + r[9:]) + "\n" for r in rows))
    assert "helper_no" in tables(visits)["visit"]
    found = tables(visits, same_as=(("helper no", "keeper no"),))
    assert found["visit"] == {"visit_no", "mood", "kg"} and "helper" not in found


def test_roles_that_say_different_things_cannot_be_one_table(visits: Path) -> None:
    text = visits.read_text()
    rows = [line.split(",") for line in text.splitlines()]
    for row in rows[1:]:
        row[8] = row[8].replace("Ada", "Bo")
    visits.write_text("".join(",".join(r) + "\n" for r in rows))
    with pytest.raises(UsageError, match="cannot be one table"):
        mark([visits], steering=Steering(same_as=(("helper no", "keeper no"),)))
    assert {"keeper", "helper"} <= {t.name for t in mark([visits]).tables}


def test_the_options_say_the_same(visits: Path, kerfmark: Runner) -> None:
    said = kerfmark(
        *("mark", visits, "--known-by", "town, mood", "--no-table", "keeper no,hive no"),
        *("--not-unique", "visit no", "--same-as", "helper no=keeper no"),
    ).out
    top = said.splitlines()
    assert re.search(r"visit +300 records +each row: ", top[0]) and "hive_kind" in top[0]
    assert "town + mood" in said
    wrong = kerfmark("mark", visits, "--same-as", "helper no", code=2)
    assert "A=B" in wrong.err


def test_a_header_with_a_comma_is_one_column(tmp_path: Path) -> None:
    file = tmp_path / "a.csv"
    rng = random.Random(1)
    rows = "".join(f"{i},{rng.choice('xyz')}\n" for i in range(60))
    file.write_text(f'no,"kind, as said"\n{rows}')
    made = mark([file], steering=Steering(known_by=(("kind", "as said"),)))
    assert len(made.tables) == 2


@pytest.mark.parametrize("fault", ["table", "key", "column"])
def test_what_a_cut_would_refuse_is_not_proposed(
    visits: Path, monkeypatch: pytest.MonkeyPatch, fault: str
) -> None:
    """Whatever the rules get wrong, what is shown can be cut; what was given up is told."""
    right = proposing.find_entities

    def wrong(*args: Any) -> Entity:
        base = right(*args)
        if fault == "table":  # mood decides kg: it does not
            base.parents.append(Entity([6], [], [9], [], 2))
            base.columns = [c for c in base.columns if c not in (6, 9)]
        elif fault == "key":  # there is a record per kilogram
            base.key, base.columns = [9], [c for c in [0, *base.columns] if c != 9]
        else:  # a column in two tables
            base.columns = [*base.columns]
            base.parents.append(Entity([3], [], [2], [], 3))
        return base

    monkeypatch.setattr(proposing, "find_entities", wrong)
    database = visits.with_suffix(".db")
    cut([visits], database)
    assert prove(database).holds
    told = mark([visits]).against
    words = {
        "table": "is not a table of its own",
        "key": "is not unique",
        "column": "already in table",
    }
    assert any(words[fault] in t for t in told), told


def test_an_id_of_the_file_is_the_primary_key_and_links_are_called_after_it(tmp_path: Path) -> None:
    """Joined by the name that both tables have, the rows are right."""
    rng = random.Random(2)
    jobs = [(20248000 + 3 * i, f"Job {i}", rng.choice(["wax", "honey"])) for i in range(30)]
    runs = [(i + 1, *rng.choice(jobs), rng.randint(1, 9)) for i in range(200)]
    for name, header, rows in (
        ("flat", "id,job_id,job name,kind,kg", runs),
        ("jobs", "job_id,job name,kind", jobs),
        ("runs", "run_id,job_id,kg", [(r[0], r[1], r[4]) for r in runs]),
    ):
        lines = [header, *(",".join(map(str, r)) for r in rows)]
        (tmp_path / f"{name}.csv").write_text("\n".join(lines) + "\n")
    for inputs, key in ((["flat.csv"], "id"), (["jobs.csv", "runs.csv"], "run_id")):
        database = tmp_path / "a.db"
        made = cut([tmp_path / n for n in inputs], database, replace=True)
        assert prove(database).holds
        rows_of = next(t for t in made.tables if t.rows == 200)
        assert rows_of.key == key
        with sqlite3.connect(database) as db:
            joined = db.execute(
                f"SELECT {key}, job_name FROM {rows_of.name} JOIN job USING (job_id)"
            )
            assert dict(joined.fetchall()) == {r[0]: r[2] for r in runs}


def test_a_link_from_files_that_use_one_header(tmp_path: Path) -> None:
    (tmp_path / "clients.csv").write_text("Client,Town\n1,Weir\n2,Mill\n3,Ford\n")
    (tmp_path / "orders.csv").write_text("Order,Client\n11,2\n12,3\n13,2\n")
    inputs = [tmp_path / "clients.csv", tmp_path / "orders.csv"]
    made = mark(inputs, steering=Steering(link=(("Client", "client"),)))
    assert {t.name: t.links for t in made.tables}["order_record"] == {"client_id": "client"}
    (tmp_path / "clients.csv").write_text("Client,Town\n1,Weir\n2,Mill\n3,Ford\n2,Hall\n")
    with pytest.raises(UsageError) as told:
        mark(inputs, steering=Steering(link=(("Client", "client"),)))
    assert told.value.why == 'its "Client" is "2" in rows 3 and 5'


def test_names_are_not_unique_where_a_code_tells_apart(tmp_path: Path) -> None:
    """A namesake may come in a later month; the layout has the line that forbids it."""
    keepers = tmp_path / "keepers.csv"
    keepers.write_text("no,name\n" + "".join(f"{i},Ada {i}\n" for i in range(1, 31)))
    made = mark([keepers], tmp_path / "a.toml")
    assert ("keeper.name", True) in [(w, "not UNIQUE" in n) for w, n in made.notes]
    assert '# unique = [["name"]]' in (tmp_path / "a.toml").read_text()
    cut([keepers], tmp_path / "a.db")
    keepers.with_name("keepers-2.csv").write_text("no,name\n31,Ada 7\n")
    add([keepers.with_name("keepers-2.csv")], tmp_path / "a.db")
    assert prove(tmp_path / "a.db").holds


def test_codes_are_the_key_and_titles_are_not(tmp_path: Path) -> None:
    tracks = tmp_path / "tracks.csv"
    lines = "".join(f"Song {i},T{i:02},{1990 + i}\n" for i in range(25))
    tracks.write_text("Title,Plate,Year\n" + lines)
    [table] = mark([tracks]).tables
    assert table.known_by == ("plate",)


@pytest.mark.parametrize(
    ("header", "name"),
    [("pH", "ph"), ("kWh", "kwh"), ("soil pH", "soil_ph"), ("KeeperID", "keeper_id")],
)
def test_units_are_one_word(tmp_path: Path, header: str, name: str) -> None:
    (tmp_path / "a.csv").write_text(f"{header},b\n1,2\n1,3\n")
    assert mark([tmp_path / "a.csv"]).tables[0].columns[0] == name


def test_the_page_of_a_proposal_shows_tables_rows_doubts_and_what_to_say(
    visits: Path, kerfmark: Runner
) -> None:
    rows = [line.split(",") for line in visits.read_text().splitlines()]
    rows[7][3] = "Elsewhere <b>"  # one town is not that of its keeper
    visits.write_text("".join(",".join(r) + "\n" for r in rows))
    told = kerfmark("mark", visits, "--report", "page.html")
    assert "wrote page.html" in told.err and "no layout was written" in told.out
    onto = kerfmark("mark", visits, "--onto", "a.db", "--report", "x.html", code=2)
    assert "leave it out" in onto.err
    page = (visits.parent / "page.html").read_text()
    assert page.count("<svg") == 1 and "http-equiv" in page and "src=" not in page
    assert "A record for each different keeper no + hive no: " in page
    assert "A record for each row of visits: 300. Each has its own visit no." in page
    assert re.search(r"<td[^>]*>K\d\d \+ [123]</td>", page)  # a link shows what it leads to
    assert "--no-table &#39;keeper no,hive no&#39;" in page and "--not-unique" in page
    assert "keeper no decides town but for 1 row" in page
    assert "Elsewhere &lt;b&gt;" in page and "Elsewhere <b>" not in page
    before = kerfmark("mark", visits).out.split("\nwhy")[0]
    options = [html.unescape(o) for o in re.findall(r"<code>(.*?)</code>", page)]
    assert len(options) >= 4
    for option in options:  # each does something else than was proposed
        assert kerfmark("mark", visits, *shlex.split(option)).out.split("\nwhy")[0] != before
    again = kerfmark("mark", visits, "--report", "page.html", code=2)
    assert "page.html" in again.err and "--replace" in again.err


def test_values_that_no_record_has_are_told_with_their_rows(tmp_path: Path) -> None:
    keepers, visits = tmp_path / "keepers.csv", tmp_path / "visits.csv"
    keepers.write_text("no,name\n" + "".join(f"K{i},Ada {i}\n" for i in range(1, 31)))
    lines = [f"K{99 if i in (7, 50) else i % 30 + 1},{i}" for i in range(200)]
    visits.write_text("keeper no,kg\n" + "\n".join(lines) + "\n")
    [reference] = mark([keepers, visits]).references
    assert str(reference) == (
        "31 values of keeper_no, 30 among keeper.no; not found in 2 rows: K99 (row 9)"
    )


def test_a_header_that_names_a_table_of_the_set_says_enough(tmp_path: Path) -> None:
    """`Field` says nothing, except beside a table of fields."""
    rng = random.Random(4)
    fields, visits = tmp_path / "field.csv", tmp_path / "visits.csv"
    fields.write_text("Field,Size\n" + "".join(f"{i},{i % 7}\n" for i in range(1, 26)))
    lines = [f"2040-01-{i % 28 + 1:02},{rng.randint(1, 25)},{i % 9}" for i in range(120)]
    visits.write_text("Day,Field,kg\n" + "\n".join(lines) + "\n")
    made = {t.name: t.links for t in mark([fields, visits]).tables}
    assert made["visit"] == {"field_id": "field"}
