"""Pictures: boxes stand apart, parents above children, everything is in them, and hostile names
stay names."""

from __future__ import annotations

import re
import sqlite3
import xml.etree.ElementTree as ET
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import DEMO, Runner
from engines import Target
from kerfmark.draw.graph_text import dot, mermaid
from kerfmark.draw.layered_layout import crossings, place_boxes
from kerfmark.draw.scene import Rect, Scene, Text, raster, svg, width_of
from kerfmark.layout.diagram import Box, Diagram, Line, Row

Write = Callable[..., Path]


@st.composite
def graphs(draw: st.DrawFn) -> tuple[dict[str, tuple[float, float]], list[tuple[str, str]]]:
    """Boxes of some sizes, and links between them, circles too."""
    names = [f"t{i}" for i in range(draw(st.integers(1, 25)))]
    sizes = {n: (draw(st.floats(60, 300)), draw(st.floats(40, 260))) for n in names}
    return sizes, draw(
        st.lists(st.tuples(st.sampled_from(names), st.sampled_from(names)), max_size=40)
    )


@settings(max_examples=60, deadline=None)
@given(graph=graphs(), widest=st.sampled_from([400, 1900]))
def test_boxes_stand_apart_and_lines_pass_between_them(
    graph: tuple[dict[str, tuple[float, float]], list[tuple[str, str]]], widest: float
) -> None:
    sizes, links = graph
    placed = place_boxes(sizes, links, widest=widest)
    boxes = {n: (x, y, x + sizes[n][0], y + sizes[n][1]) for n, (x, y) in placed.corners.items()}
    assert set(boxes) == set(sizes)
    for n, (ax, ay, bx, by) in boxes.items():
        assert ax > -1 and ay > -1 and bx <= placed.width + 1 and by <= placed.height + 1
        for m, (cx, cy, dx, dy) in boxes.items():
            assert n == m or bx <= cx or dx <= ax or by <= cy or dy <= ay, (n, m)
    for way in placed.ways.values():
        for (x, lower), (same, upper) in zip(way[::2], way[1::2], strict=True):
            assert x == same and not any(
                ax < x < bx and ay < lower and by > upper for ax, ay, bx, by in boxes.values()
            )
    for (
        child,
        parent,
    ), way in placed.ways.items():  # and where a line goes aside, there are no boxes at all
        stops = [placed.roofs[child], *(y for _, y in way), boxes[parent][3]]
        for lower, upper in zip(stops[::2], stops[1::2], strict=True):
            assert not any(ay < lower - 4 and by > upper + 4 for _, ay, _, by in boxes.values()), (
                child,
                parent,
            )


@settings(max_examples=40, deadline=None)
@given(parents=st.lists(st.integers(0, 30), min_size=1, max_size=30))
def test_parents_stand_above_their_children(parents: list[int]) -> None:
    links = [(f"t{i + 1}", f"t{p % (i + 1)}") for i, p in enumerate(parents)]
    sizes = {f"t{i}": (80.0, 50.0) for i in range(len(parents) + 1)}
    placed = place_boxes(sizes, links, widest=1e9)
    assert all(placed.corners[p][1] + 50 <= placed.corners[c][1] for c, p in links)


def test_lines_that_need_not_cross_do_not() -> None:
    near = {"a": ["x"], "b": ["y"], "x": ["a"], "y": ["b"]}
    assert (
        crossings([["a", "b"], ["y", "x"]], near) == 1
        and crossings([["a", "b"], ["x", "y"]], near) == 0
    )
    sizes = dict.fromkeys("abcdefgh", (50.0, 30.0))
    placed = place_boxes(sizes, [("h", "a"), ("g", "b"), ("f", "c"), ("e", "d")])
    assert [placed.corners[c][0] for c in "hgfe"] == [placed.corners[p][0] for p in "abcd"]


def test_a_database_a_layout_and_where_the_columns_went(kerfmark: Runner, tmp_path: Path) -> None:
    (tmp_path / "i.csv").write_bytes((DEMO / "inspections-2025.csv").read_bytes())
    kerfmark("cut", "i.csv", "--into", "a.db")
    told = kerfmark("draw", "a.db", "-o", "a.svg", "--json").json
    assert len(told["boxes"]) == 10 and len(told["lines"]) == 9
    assert {b["name"]: b["saved"] for b in told["boxes"]}["keeper"] == 3 * (1512 - 34)
    root = ET.fromstring((tmp_path / "a.svg").read_text("utf-8"))
    said = [t.text for t in root.iter("{http://www.w3.org/2000/svg}text")]
    assert {
        "keeper",
        "34 rows",
        "spares 4,434 repeated values",
        "district_inspector",
        "honey_kg?",
        "PK",
        "FK",
    } <= set(said)
    kerfmark("draw", "a.layout.toml", "-o", "l.svg")
    assert "4 columns" in (tmp_path / "l.svg").read_text("utf-8")
    told = kerfmark("draw", "a.db", "-o", "f.svg", "--before-after", "--json").json
    headers = (tmp_path / "i.csv").read_text("utf-8").splitlines()[0].split(";")
    assert [f["header"] for f in told["flows"]] == headers and all(
        f["table"] for f in told["flows"]
    )
    picture = (tmp_path / "f.svg").read_text("utf-8")
    assert picture.count("<path") == len(headers) + 2  # and both links of what joins two tables
    assert "i_treatment" in picture and "1 more table links two of them" in picture
    signs = {  # no two tables have the same colour and kind of line: the 8th to 14th are dashed
        (re.findall(r"var\(--(c\d)\)", one)[0], "dasharray" in one)
        for one in re.findall("<path[^>]*>", picture)
        if "--c" in one
    }
    assert len(signs) == 9 and sum(dashed for _, dashed in signs) == 2
    texts = [t.text for t in ET.fromstring(picture).iter("{http://www.w3.org/2000/svg}text")]
    assert "8  mite" in texts and texts.count("8") == 3  # its number is at its three columns
    for name, begins in (("a.png", b"\x89PNG"), ("a.pdf", b"%PDF")):
        kerfmark("draw", "a.db", "-o", name, "--dark")
        first = (tmp_path / name).read_bytes()
        kerfmark("draw", "a.db", "-o", name, "--dark", "--replace")
        assert (
            first.startswith(begins) and (tmp_path / name).read_bytes() == first
        )  # the same each time
    kerfmark("draw", "a.db", "-o", "a.mmd")
    text = (tmp_path / "a.mmd").read_text("utf-8")
    assert 'district ||--o{ apiary : "district_id"' in text and "integer apiary_id PK" in text
    kerfmark("draw", "a.db", "-o", "a.dot")
    assert '"apiary" -> "district" [dir=both, arrowtail=crow' in (tmp_path / "a.dot").read_text(
        "utf-8"
    )


def test_tables_that_somebody_else_made(db: Target, write: Write, kerfmark: Runner) -> None:
    if db.engine == "PostgreSQL":
        db.do(f"CREATE SCHEMA {db.url.split('=')[1]}")
    db.do(
        "CREATE TABLE mother (id integer PRIMARY KEY, name varchar(9) NOT NULL UNIQUE)",
        "CREATE TABLE child (id integer PRIMARY KEY, mother_id integer NOT NULL, twin_id integer "
        "UNIQUE, "
        "FOREIGN KEY (mother_id) REFERENCES mother (id), FOREIGN KEY (twin_id) REFERENCES child "
        "(id))",
        "INSERT INTO mother VALUES (1, 'x')",
    )
    told = kerfmark("draw", db, "-o", "x.svg", "--json").json
    assert {(x["child"], x["parent"], x["optional"], x["single"]) for x in told["lines"]} == {
        ("child", "mother", False, False),
        ("child", "child", True, True),
    }
    assert {b["name"]: b["rows"] for b in told["boxes"]} == {"mother": 1, "child": 0}
    assert (
        "does not know what they were before"
        in kerfmark("draw", db, "-o", "y.svg", "--before-after", code=2).err
    )


def test_hostile_names_stay_names() -> None:
    name = 'a"]; <script>&\n$x$ \\'
    box = Box(name, (Row(name, "text", True),), 3)
    diagram = Diagram(name, (box, Box("b", ())), (Line("b", (name,), name, True, True),))
    scene = Scene(300, 100, name, [Rect(0, 0, 9, 9, "card"), Text(1, 20, name)])
    root = ET.fromstring(svg(scene))
    assert not list(root.iter("{http://www.w3.org/2000/svg}script"))
    assert raster(scene, "png").startswith(b"\x89PNG")
    assert "&lt;script&gt;&amp;" in dot(diagram) and '\\"]; <script>&\\n$x$' in dot(diagram)
    assert re.search(r'^    "a\'\]; <script>& \$x\$ \\" \|o--o\| b', mermaid(diagram), re.M)


def test_what_cannot_be_drawn_is_told(write: Write, kerfmark: Runner, tmp_path: Path) -> None:
    with sqlite3.connect(tmp_path / "e.db") as db:
        db.execute("CREATE TABLE t (a)")
    assert "let its name end in .svg" in kerfmark("draw", "e.db", "-o", "x.jpeg", code=2).err
    write("x.svg", "mine")
    assert "exists already" in kerfmark("draw", "e.db", "-o", "x.svg", code=2).err
    assert (tmp_path / "x.svg").read_text() == "mine"
    write("n.db", b"")
    assert "no tables to draw" in kerfmark("draw", "n.db", "-o", "y.svg", code=2).err


@pytest.mark.parametrize(("text", "letters"), [("abc", 3), ("蜂蜂", 4), ("", 0)])
def test_texts_are_as_wide_as_they_are(text: str, letters: int) -> None:
    assert width_of(text, 10) == pytest.approx(letters * 6.02)
