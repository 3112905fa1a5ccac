"""Everything that a layout can say, through the real program: each does what it says, and the proof
still holds."""

from __future__ import annotations

import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Runner

Write = Callable[..., Path]
HEAD = 'kerfmark = 1\n[sources.visits]\nfile = "visits.csv"\n'
BASE = "[tables.visit]\neach_row = true\n"


@pytest.fixture
def built(
    kerfmark: Runner, write: Write, tmp_path: Path
) -> Callable[..., Callable[[str], list[Any]]]:
    """Builds and proves a database from a layout and a file; gives a way to ask it."""

    def build(
        layout: str, content: str | None = None, *args: str, **files: str
    ) -> Callable[[str], list[Any]]:
        if content is not None:
            write("visits.csv", content)
        for name, text in files.items():
            write(f"{name}.csv", text)
        write("l.toml", layout)
        kerfmark("cut", "l.toml", "--into", "v.db", "--replace", *args)
        proof = kerfmark("prove", "v.db", "--json").json
        assert proof["holds"], proof

        def ask(sql: str) -> list[Any]:
            with sqlite3.connect(tmp_path / "v.db") as db:
                assert db.execute("PRAGMA foreign_key_check").fetchall() == []
                rows = db.execute(sql).fetchall()
            return [r[0] if len(r) == 1 else r for r in rows]

        return ask

    return build


Built = Callable[..., Callable[[str], list[Any]]]


def test_headers_as_written_are_enough(built: Built) -> None:
    ask = built(
        HEAD + BASE + 'links = ["hive"]\ncolumns = ["Visit day", "Kg"]\noptional = ["Kg"]\n'
        '[tables.hive]\nknown_by = ["Hive tag"]\ncolumns = ["Hive tag", "Kind"]\n',
        "Visit day,Kg,Hive tag,Kind\n1,5,H1,wood\n2,,H2,cork\n3,6,H1,wood\n",
    )
    assert ask("SELECT visit_day, kg, hive_tag, kind FROM visit JOIN hive USING (hive_id)") == [
        ("1", "5", "H1", "wood"),
        ("2", None, "H2", "cork"),
        ("3", "6", "H1", "wood"),
    ]


def test_rows_that_are_no_data_are_skipped_and_rows_are_still_counted_right(
    built: Built, kerfmark: Runner, write: Write
) -> None:
    layout = (
        HEAD
        + 'skip_rows = [2, "4-5", -1]\n'
        + BASE
        + 'columns = {kg = {header = "kg", type = "integer"}}\n'
    )
    assert built(
        layout,
        "kg,x\n(in kg),-\n1,a\nhalf,b\nof,c\n2,d\ntotal,3\n".replace(",x", "")
        .replace(",-", "")
        .replace(",a", "")
        .replace(",b", "")
        .replace(",c", "")
        .replace(",d", "")
        .replace(",3", ""),
    )("SELECT kg FROM visit") == [1, 2]
    write("visits.csv", "kg\n(in kg)\n1\nhalf\nof\nfour\ntotal\n")
    assert (
        'row 6, column "kg": "four" is not an integer'
        in kerfmark("cut", "l.toml", "--into", "w.db", code=1).err
    )
    told = kerfmark("measure", "visits.csv", "--skip-rows", "2,4-6,-1", "--json").json
    assert told["sources"][0]["columns"][0]["type"] == "integer" and told["sources"][0]["rows"] == 1


def test_marks_and_forms_are_said_once_for_a_source(built: Built) -> None:
    ask = built(
        HEAD
        + 'delimiter = ";"\ndecimals = ","\nthousands = "."\ndates = "D.M.YYYY"\ntimes = "hh.mm"\n'
        'blanks = ["-", 0]\n' + BASE + 'optional = ["n"]\n[tables.visit.columns]\n'
        'day = {header = "day", type = "date"}\nat = {header = "at", type = "time"}\n'
        'kg = {header = "kg", type = "decimal(9,2)"}\nn = {header = "n", type = "integer"}\n',
        "day;at;kg;n\n3.4.2025;09.30;1.234,50;1.000\n13.12.2025;18.00;5,00;-\n1.1.2025;00.15;-7,25;0\n",
    )
    assert ask("SELECT * FROM visit") == [
        (1, "2025-04-03", "09:30:00", 1234.5, 1000),
        (2, "2025-12-13", "18:00:00", 5, None),
        (3, "2025-01-01", "00:15:00", -7.25, None),
    ]


def test_a_pattern_is_one_source_and_its_star_a_column(built: Built, write: Write) -> None:
    write("visits-2025-02.csv", "kg,day\n3,2\n")  # the columns in another order
    ask = built(
        'kerfmark = 1\n[sources.visits]\nfile = "visits-*.csv"\ntelling = "month"\n'
        + BASE
        + 'columns = ["month", "day", "kg"]\n',
        **{"visits-2025-01": "day,kg\n1,2\n"},
    )
    assert ask("SELECT month, day, kg FROM visit") == [("2025-01", "1", "2"), ("2025-02", "2", "3")]
    ask = built(
        'kerfmark = 1\n[sources.visits]\nfile = "visits-*.csv"\n'
        + BASE
        + 'columns = ["day", "kg"]\n'
    )
    assert ask("SELECT day, kg FROM visit") == [("1", "2"), ("2", "3")]


def test_sheets_of_a_pattern_are_one_source(built: Built, tmp_path: Path) -> None:
    import xlsxwriter

    with xlsxwriter.Workbook(tmp_path / "visits.xlsx") as book:
        for year in ("2024", "2025"):
            book.add_worksheet(f"Year {year}").write_column(0, 0, ["kg", f"{year[-1]}1"])
        book.add_worksheet("Notes").write_column(0, 0, ["x", "y"])
    ask = built(
        'kerfmark = 1\n[sources.visits]\nfile = "visits.xlsx"\nsheet = "Year *"\ntelling = "year"\n'
        + BASE
        + 'columns = ["year", "kg"]\n'
    )
    assert ask("SELECT year, kg FROM visit") == [("2024", "41"), ("2025", "51")]


def test_other_spellings_of_headers(built: Built) -> None:
    assert built(
        HEAD + 'also = {Keeper = ["Beekeeper", "Imker"]}\n' + BASE + 'columns = ["Keeper"]\n',
        "Imker\nAda\n",
    )("SELECT keeper FROM visit") == ["Ada"]


def test_a_file_without_header_by_position(built: Built) -> None:
    assert built(
        HEAD + "header_row = 0\n" + BASE + 'columns = {day = "column 1", kg = "column 2"}\n',
        "1,2\n3,4\n",
    )("SELECT day, kg FROM visit") == [("1", "2"), ("3", "4")]


def test_natural_and_composite_keys_take_the_place_of_generated_ones(built: Built) -> None:
    ask = built(
        HEAD + BASE + 'key = ["no"]\nknown_by = ["no"]\nlinks = ["hive"]\noptional = ["hive_id"]\n'
        'columns = {no = {header = "no", type = "integer"}}\n'
        '[tables.hive]\nknown_by = ["apiary_id", "tag"]\nkey = ["apiary_id", "tag"]\nlinks = '
        '["apiary"]\n'
        'columns = ["tag"]\n'
        '[tables.apiary]\nknown_by = ["apiary"]\nkey = ["apiary"]\ncolumns = ["apiary", "grid"]\n',
        "no,apiary,grid,tag\n7,Weir,XK 1,1\n5,Mill,XK 2,1\n6,Weir,XK 1,1\n4,Weir,XK 1,2\n3,,,\n",
    )
    assert ask("SELECT * FROM apiary") == [("Weir", "XK 1"), ("Mill", "XK 2")]
    assert ask("SELECT * FROM hive") == [("Weir", "1"), ("Mill", "1"), ("Weir", "2")]
    assert ask("SELECT no, hive_id_apiary_id, hive_id_tag FROM visit") == [
        (7, "Weir", "1"),
        (5, "Mill", "1"),
        (6, "Weir", "1"),
        (4, "Weir", "2"),
        (3, None, None),
    ]
    assert ask("SELECT name, pk FROM pragma_table_info('hive') WHERE pk > 0") == [
        ("apiary_id", 1),
        ("tag", 2),
    ]
    assert len(ask("SELECT * FROM pragma_foreign_key_list('visit')")) == 2


def test_natural_keys_of_what_others_are_part_of_and_look_up(built: Built) -> None:
    ask = built(
        HEAD + BASE + 'known_by = ["no"]\nkey = ["no"]\noptional = ["after_id"]\ncolumns = ["no"]\n'
        '[tables.visit.links]\nafter_id = {to = "visit", by = {no = "after"}}\n'
        '[tables.count]\npart_of = "visit"\nknown_by = ["visit_id", "nth"]\nlinks = ["visit"]\n'
        '[tables.count.columns]\nnth = {told = ["1", "2"], type = "integer"}\n'
        'mites = {headers = ["m1", "m2"], type = "integer"}\n',
        "no,after,m1,m2\nA,B,1,2\nB,,,3\n",
    )
    assert ask("SELECT no, after_id FROM visit") == [("A", "B"), ("B", None)]
    assert ask("SELECT visit_id, nth, mites FROM count") == [("A", 1, 1), ("A", 2, 2), ("B", 2, 3)]


def test_records_are_numbered_in_the_wanted_order(built: Built) -> None:
    ask = built(
        HEAD + BASE + 'order = ["-day", "no"]\nlinks = ["hive"]\n[tables.visit.columns]\n'
        'no = "no"\nday = {header = "day", type = "date YYYY-MM-DD"}\nm = "m"\n'
        '[tables.hive]\nknown_by = ["hive"]\norder = ["hive"]\ncolumns = ["hive"]\n',
        "no,day,hive,m\n2,2025-01-01,Z,a\n1,2025-01-01,A,b\n9,2025-02-01,M,c\n",
    )
    assert ask("SELECT visit_id, no, hive FROM visit JOIN hive USING (hive_id) ORDER BY 1") == [
        (1, "9", "M"),
        (2, "1", "A"),
        (3, "2", "Z"),
    ]
    assert ask("SELECT hive FROM hive ORDER BY hive_id") == ["A", "M", "Z"]


def test_only_some_rows_make_records(built: Built, kerfmark: Runner) -> None:
    ask = built(
        HEAD
        + 'left_out = ["state"]\n'
        + BASE
        + 'only_rows = "[state] <> \'void\' and [kg] > 1"\nlinks = ["keeper"]\n'
        'optional = ["keeper_id"]\ncolumns = {kg = {header = "kg", type = "integer"}}\n'
        "[tables.keeper]\nonly_rows = \"[Keeper] <> 'nobody'\"\n"
        'known_by = ["Keeper"]\ncolumns = ["Keeper", "Phone"]\n',
        "state,kg,Keeper,Phone\nok,5,Ada,1\nvoid,6,Bo,2\nok,1,Cy,3\nok,7,nobody,0\nok,8,Ada,1\n",
    )
    assert ask("SELECT kg, keeper, phone FROM visit LEFT JOIN keeper USING (keeper_id)") == [
        (5, "Ada", "1"),
        (7, None, None),
        (8, "Ada", "1"),
    ]
    assert "2 rows left out by the layout" in kerfmark("prove", "v.db").out
    assert kerfmark("check", "l.toml", "--json").json["sources"][0]["left_out"] == 2


def test_what_cells_mean_their_defaults_and_how_they_are_made_clean(
    built: Built, kerfmark: Runner
) -> None:
    ask = built(
        HEAD
        + BASE
        + 'links = ["apiary"]\n[tables.visit.columns]\nn = {header = "n", type = "integer", default = 0}\n'
        'calm = {header = "calm", type = "boolean yes/no", clean = "lower", means = {y = "yes", j '
        '= "yes", "?" = ""}, '
        'default = "no"}\n[tables.apiary]\nknown_by = ["apiary"]\n[tables.apiary.columns]\n'
        'apiary = {header = "apiary", clean = ["spaces", "capitals"], means = {"Nthng. Mill" = '
        '"Nothing Mill"}}\n',
        'n,calm,apiary\n3,Y,Nothing Mill\n,No," nothing  mill "\n5,?,Nthng. mill\n6,J,Weir\n',
    )
    assert ask("SELECT apiary FROM apiary") == ["Nothing Mill", "Weir"]
    assert ask("SELECT n, calm, apiary_id FROM visit") == [
        (3, 1, 1),
        (0, 0, 1),
        (5, 0, 1),
        (6, 1, 2),
    ]
    assert "7 cells changed by the layout" in kerfmark("prove", "v.db").out


def test_units_are_changed_exactly_where_asked(
    built: Built, kerfmark: Runner, write: Write
) -> None:
    layout = (
        HEAD
        + BASE
        + (
            "[tables.visit.columns]\n"
            'kg = {header = "lb", type = "decimal(6,2) 0,0", unit = "lb to kg", most = 1000}\n'
            'c = {header = "f", type = "integer", unit = "degF to degC"}\n'
        )
    )
    assert built(layout, 'lb,f\n"10,0",50\n"0,5",-40\n')("SELECT kg, c FROM visit") == [
        (4.54, 10),
        (0.23, -40),
    ]
    write("visits.csv", "lb,f\nheavy,50\n9999,50\n")
    told = kerfmark("check", "l.toml", code=1).out
    assert (
        '"heavy" is not a decimal (decimal(6,2) 0,0, lb to kg)' in told
        and '"9999" is not at most 1000' in told
    )


def test_only_allowed_values_pass(built: Built, kerfmark: Runner, write: Write) -> None:
    layout = (
        HEAD
        + BASE
        + (
            '[tables.visit.columns]\nkind = {header = "kind", allowed = ["wood", "cork"]}\n'
            'kg = {header = "kg", type = "decimal(4,1)", least = 0, most = "40.5"}\n'
            'day = {header = "day", type = "date DD.MM.YYYY", least = "01.01.2020"}\nnote = '
            '{header = "note", '
            'type = "text(5)"}\n'
        )
    )
    assert built(layout, "kind,kg,day,note\nwood,40.5,01.01.2020,abcde\n")(
        "SELECT count(*) FROM visit"
    ) == [1]
    write("visits.csv", "kind,kg,day,note\nwod,-0.1,31.12.2019,abcdef\nwood,41,02.02.2022,\n")
    groups = {
        (g["kind"], g["column"]): g
        for g in kerfmark("check", "l.toml", "--json", code=1).json["groups"]
    }
    assert set(groups) == {
        ("not allowed", "kind"),
        ("not allowed", "kg"),
        ("not allowed", "day"),
        ("too wide", "note"),
        ("blank", "note"),
    }
    assert groups["not allowed", "kind"]["places"][0]["reason"] == '"wod" is not one of wood, cork'
    assert (
        groups["not allowed", "kg"]["total"] == 2
        and groups["too wide", "note"]["places"][0]["value"] == "abcdef"
    )


def test_derived_columns_and_keys(built: Built, kerfmark: Runner, write: Write) -> None:
    layout = (
        HEAD + BASE + 'links = ["season"]\noptional = ["kg", "share"]\n[tables.visit.columns]\n'
        'day = {header = "day", type = "date DD.MM.YYYY"}\nkg = {header = "kg", type = '
        '"decimal(5,1) 0,0"}\n'
        'month = {derived = "month([day])"}\nshare = {derived = "round([kg] / 3, 2)"}\n'
        'label = {derived = "upper([hive]) & \'-\' & coalesce([kg], 0)"}\nhive = "hive"\n'
        '[tables.season]\nknown_by = ["year"]\ncolumns = {year = {derived = "year([day])"}, '
        'recent = {derived = "year([day]) >= 2025"}}\n'
    )
    ask = built(layout, 'day,kg,hive\n03.04.2025,"1,0",a\n04.05.2024,,b\n05.06.2025,"2,5",c\n')
    assert ask(
        "SELECT month, share, label, year, recent FROM visit JOIN season USING (season_id)"
    ) == [(4, 0.33, "A-1.0", 2025, 1), (5, None, "B-0.0", 2024, 0), (6, 0.83, "C-2.5", 2025, 1)]
    assert ask(
        "SELECT type FROM pragma_table_info('visit') WHERE name IN ('month', 'label', 'share')"
    ) == ["BIGINT", "NUMERIC(15, 2)", "TEXT"]
    write("l.toml", layout.replace("year([day])", "year([dya])").replace("upper(", "uper("))
    told = kerfmark("cut", "l.toml", "--into", "w.db", code=2).err
    assert (
        "4 mistakes" not in told
        and 'a column "dya"; did you mean "day"?' in told
        and 'did you mean "upper"' in told
    )
    assert "line 13" in told and "»uper" in told


def test_lookups_are_loose_where_asked_and_refuse_or_leave_blank_what_is_unknown(
    built: Built, kerfmark: Runner, write: Write
) -> None:
    places = "name,grid\nNothing Mill,XK 1\nWeir,XK 2\n"
    layout = (
        'kerfmark = 1\n[sources.visits]\nfile = "visits.csv"\n[sources.places]\nfile = '
        '"places.csv"\n'
        '[tables.place]\nsource = "places"\neach_row = true\nknown_by = ["name"]\ncolumns = '
        '["name", "grid"]\n'
        '[tables.visit]\nsource = "visits"\neach_row = true\noptional = ["place_id"]\ncolumns = '
        '["no"]\n'
        '[tables.visit.links]\nplace_id = {to = "place", by = {name = "Place"}, loose = true, '
        'missing = "MISSING", '
        'repeats = {grid = "Grid"}}\n'
    )
    visits = "no,Place,Grid\n1,NOTHING  mill,XK 1\n2,Weír,XK 9\n3,,\n"
    ask = built(layout.replace("MISSING", "blank"), visits, places=places)
    assert ask("SELECT no, place_id FROM visit") == [("1", 1), ("2", None), ("3", None)]
    assert kerfmark("check", "l.toml", "--json").json["links"] == [
        {
            "table": "visit",
            "link": "place_id",
            "to": "place",
            "resolved": 1,
            "created": 0,
            "blank": 1,
        }
    ]
    ask = built(
        layout.replace("MISSING", "create").replace('"name", "grid"', '"name", "grid"'),
        visits,
        places=places,
    )
    assert ask("SELECT name, grid FROM place") == [
        ("Nothing Mill", "XK 1"),
        ("Weir", "XK 2"),
        ("Weír", "XK 9"),
    ]
    write("l.toml", layout.replace("MISSING", "refuse"))
    told = kerfmark("cut", "l.toml", "--into", "w.db", code=1).err
    assert 'row 3, column "Place": "Weír" was not found in place; the nearest is "Weir"' in told


def test_links_to_itself_in_any_order_with_circles_told(built: Built, kerfmark: Runner) -> None:
    built(
        HEAD + BASE + 'known_by = ["tag"]\noptional = ["mother_id"]\ncolumns = ["tag"]\n'
        '[tables.visit.links]\nmother_id = {to = "visit", by = {tag = "mother"}}\n',
        "tag,mother\nA,B\nB,C\nC,A\nD,A\nE,F\n",
    )
    result = kerfmark("check", "l.toml", "--json").json
    circle, made = result["groups"]
    assert (made["kind"], made["places"][0]["reason"]) == ("for one", '"F" is not among visit')
    assert (circle["kind"], circle["severity"]) == ("circle", "doubtful")
    assert [p["value"] for p in circle["places"]] == ["B", "C", "A"]
    assert result["links"][0]["created"] == 1 and result["problems"] == 0


@pytest.mark.parametrize(("rule", "phone"), [("first", "1"), ("last", "3"), ("most frequent", "2")])
def test_one_of_several_values_is_kept_as_the_layout_says(
    built: Built, rule: str, phone: str
) -> None:
    ask = built(
        HEAD
        + BASE
        + 'links = ["keeper"]\ncolumns = ["no"]\n[tables.keeper]\nknown_by = ["keeper"]\n'
        f'[tables.keeper.columns]\nkeeper = "keeper"\nphone = {{header = "phone", conflicts = '
        f'"{rule}"}}\n',
        "no,keeper,phone\n1,Ada,\n2,Ada,1\n3,Ada,2\n4,Ada,2\n5,Ada,3\n6,Bo,4\n",
    )
    assert ask("SELECT phone FROM keeper") == [phone, "4"]


def test_a_table_fed_by_several_sources_has_the_records_of_all(
    built: Built, kerfmark: Runner, write: Write
) -> None:
    layout = (
        'kerfmark = 1\n[sources.visits]\nfile = "visits.csv"\n[sources.keepers]\nfile = '
        '"keepers.csv"\n'
        '[tables.keeper]\nsource = "keepers"\nalso_from = ["visits"]\neach_row = true\nknown_by = '
        '["Keeper"]\n'
        'columns = ["Keeper", "Phone", "Since"]\noptional = ["Since"]\n'
        '[tables.visit]\nsource = "visits"\neach_row = true\nlinks = ["keeper"]\ncolumns = ["no"]\n'
    )
    ask = built(
        layout,
        "no,Keeper,Phone\n1,Bo,2\n2,Ada,1\n3,Bo,2\n",
        keepers="Keeper,Phone,Since\nAda,1,1999\n",
    )
    assert ask("SELECT * FROM keeper") == [(1, "Ada", "1", "1999"), (2, "Bo", "2", None)]
    assert ask("SELECT no, keeper_id FROM visit") == [("1", 2), ("2", 1), ("3", 2)]
    write("visits.csv", "no,Keeper,Phone\n1,Ada,9\n")
    assert (
        'column "Phone": differs from keeper, which has another value for the same Keeper'
        in kerfmark("cut", "l.toml", "--into", "w.db", code=1).err
    )


def test_comments_are_kept_in_the_layout_and_widths_in_the_database(built: Built) -> None:
    ask = built(
        HEAD
        + BASE
        + 'comment = "one record per visit"\ncolumns = {no = {header = "no", type = "text(12)", '
        'comment = "as on the card"}}\n',
        "no\n1\n",
    )
    assert ask("SELECT type FROM pragma_table_info('visit') WHERE name = 'no'") == ["VARCHAR(12)"]
    assert "as on the card" in ask("SELECT layout FROM kerfmark_layouts")[0]
