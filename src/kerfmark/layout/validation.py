"""What is wrong with a layout: all of it at once, each with its place.

First what each part says of itself (unknown keys, wrong types), then what the parts say of each
other. What is wrong in itself is taken out before the second look, and what would only follow from
that is not told.
"""

from __future__ import annotations

import copy
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from pydantic import ValidationError

from kerfmark.engines import kept_columns
from kerfmark.errors import article
from kerfmark.layout.expression import BOOLEAN, ExpressionError, parse_expression
from kerfmark.layout.model import ColumnSpec, Layout, LinkSpec, PartSpec, SourceSpec, TableSpec
from kerfmark.layout.names import closest, is_kept_back
from kerfmark.profile.convert import to_typed
from kerfmark.profile.types import TEXT, ColumnType, plain_form

MOST_DERIVED_DIGITS = 15


@dataclass(frozen=True)
class Mistake:
    """Something that a layout cannot say: where, and why not (and what would be right)."""

    path: tuple[str, ...]
    what: str

    def __str__(self) -> str:
        return f"{' > '.join(self.path)}: {self.what}" if self.path else self.what


def read_data(data: dict[str, Any]) -> tuple[Layout | None, list[Mistake]]:
    """The layout in TOML's data, and everything that is wrong with it; the layout is None when it
    says nothing usable."""
    out: list[Mistake] = []
    dropped: set[str] = set()
    left = data
    for _ in range(50):
        try:
            layout = Layout.model_validate(left)
        except ValidationError as error:
            left = copy.deepcopy(left)
            for problem in error.errors():
                path = _place(left, problem["loc"])
                mistake = _said(problem, path)
                again = any(m.path == path for m in out)
                out += [] if again else [mistake]
                dropped |= {_corrected(left, path, problem["type"], again)}
            if not all(isinstance(left.get(k), dict) for k in ("sources", "tables")):
                return None, out
            continue
        parts = {m.path[:4] for m in out if len(m.path) >= 4}
        follows = [
            m
            for m in contradictions(layout)
            if m.path[:4] not in parts
            and not dropped & set(m.path)
            and not any(f'"{d}"' in m.what for d in dropped if d)
        ]
        return (None if out or follows else _settled(layout)), out + follows
    return None, out


def _corrected(data: dict[str, Any], path: tuple[str, ...], kind: str, again: bool) -> str:
    """Takes out of a layout's data what is wrong there, as little as will do: a key that is nearly
    one is taken for that. Gives the name of the part that is gone, if a whole part had to go."""
    holder: Any = data
    for part in path[:-1]:
        holder = (
            holder[int(part)]
            if isinstance(holder, list) and part.isdigit()
            else holder.get(part)
            if isinstance(holder, dict)
            else None
        )
    if kind == "extra_forbidden" and isinstance(holder, dict) and path[-1] in holder:
        meant = near(path[-1], _known_keys(path))
        value = holder.pop(path[-1])
        if meant:
            holder.setdefault(meant.split('"')[1], value)
        return ""
    if isinstance(holder, dict) and path[-1] in holder and len(path) not in (2, 4) and not again:
        holder.pop(path[-1])
        return ""
    gone = path[:4] if len(path) >= 4 else path[:2]
    _take_out(data, gone)
    return gone[-1]


def _known_keys(path: tuple[str, ...]) -> list[str]:
    third = PartSpec if "parts" in path else LinkSpec if "links" in path else ColumnSpec
    owner = {1: Layout, 3: SourceSpec if path[0] == "sources" else TableSpec, 5: third}
    return list(owner.get(len(path), Layout).model_fields)


def _settled(layout: Layout) -> Layout:
    """The same layout with the types of derived columns that do not say theirs."""
    tables, of_source = {}, dict[str, Any]()
    for name, table in layout.tables.items():
        untyped = [
            n for n, c in table.columns.items() if c.derived and "type" not in c.model_fields_set
        ]
        if not untyped:
            continue
        if table.source not in of_source:
            of_source[table.source] = types_of(layout, table.source)
        columns = dict(table.columns)
        for n in untyped:
            given = parse_expression(columns[n].derived, of_source[table.source]).type
            columns[n] = columns[n].model_copy(update={"type": str(_stored_type(given))})
        tables[name] = table.model_copy(update={"columns": columns})
    return layout.model_copy(update={"tables": {**layout.tables, **tables}}) if tables else layout


def derived_type(
    layout: Layout, source: str, expression: str
) -> tuple[ColumnType, tuple[str, ...]]:
    """The type of a column with what an expression over the columns of a source gives, and the
    headers that it names. Raises ExpressionError."""
    node = parse_expression(expression, types_of(layout, source))
    return _stored_type(node.type), tuple(dict.fromkeys(node.headers()))


def _stored_type(type_: ColumnType) -> ColumnType:
    """The type of a column for what an expression gives: of decimals no more digits than every
    engine keeps exactly."""
    if type_.kind != "decimal" or type_.precision <= MOST_DERIVED_DIGITS:
        return type_
    scale = min(type_.scale, MOST_DERIVED_DIGITS - 1)
    return ColumnType("decimal", MOST_DERIVED_DIGITS, scale, plain_form(scale))


def _place(data: Any, loc: tuple[int | str, ...]) -> tuple[str, ...]:
    """A place of pydantic's in the data itself: what names only a kind of value is left out."""
    out: list[str] = []
    part: Any
    for i, part in enumerate(loc):
        if (isinstance(data, dict) and part in data) or (
            isinstance(data, list) and isinstance(part, int) and part < len(data)
        ):
            data = data[part]
        elif i < len(loc) - 1 or not isinstance(data, dict):
            continue
        out.append(str(part))
    return tuple(out)


def _take_out(data: Any, path: tuple[str, ...]) -> None:
    for part in path[:-1]:
        if isinstance(data, list) and part.isdigit() and int(part) < len(data):
            data = data[int(part)]
        elif isinstance(data, dict) and part in data:
            data = data[part]
        else:
            return
    if isinstance(data, dict):
        data.pop(path[-1], None)
    elif isinstance(data, list) and path[-1].isdigit() and int(path[-1]) < len(data):
        data.pop(int(path[-1]))


def _said(problem: Mapping[str, Any], path: tuple[str, ...]) -> Mistake:
    """One of pydantic's problems in our words."""
    if problem["type"] == "extra_forbidden":
        known = _known_keys(path)
        return Mistake(
            path,
            "there is no such key" + (near(path[-1], known) or f" (known: {', '.join(known)})"),
        )
    if problem["type"] == "missing":
        return Mistake(path, "this key is missing")
    if problem["type"] == "literal_error":
        wrong, expected = str(problem["input"]), str(problem["ctx"]["expected"])
        return Mistake(
            path,
            f'"{wrong}" is not one of {expected}'
            + near(wrong, [e.strip("' ") for e in expected.split(",")]),
        )
    return Mistake(path, str(problem["msg"]).removeprefix("Value error, "))


def near(word: str, known: Collection[str]) -> str:
    """What was probably meant, as the end of a sentence."""
    found = closest(word, known)
    return f'; did you mean "{found}"?' if found else ""


def types_of(layout: Layout, source: str) -> Any:
    """What `parse_expression` asks for the types of a source's columns."""
    known = {h: c.of_type for _, h, c in _columns_of(layout, source)}
    known |= {h: TEXT for h in layout.sources[source].left_out if h not in known}

    def type_(header: str, at: int) -> ColumnType:
        if header not in known:
            raise ExpressionError(
                f'no table or left_out has a column "{header}"{near(header, known)}', "", at
            )
        return known[header]

    return type_


def _columns_of(layout: Layout, source: str) -> Iterator[tuple[str, str, ColumnSpec]]:
    """Table, header and column for every header of a source that a table takes."""
    for name, table in layout.tables.items():
        if table.source != source and source not in table.also_from:
            continue
        for column in table.columns.values():
            for header in column.sources:
                yield name, header, TEXT_COLUMN if column.split else column
        for link in table.links.values() if table.source == source else ():
            for path, header in (*link.by.items(), *link.repeats.items()):
                found = layout.follow(link.to, path) if link.to in layout.tables else None
                if found:
                    yield found[0], header, found[1]


TEXT_COLUMN = ColumnSpec(header="-")


def contradictions(layout: Layout) -> list[Mistake]:
    """What a layout says that cannot all be true."""
    out: list[Mistake] = []
    for name, source in layout.sources.items():
        out += [
            Mistake(
                ("sources", name, "also"), f'"{h}" is both a header and another spelling of one'
            )
            for spellings in source.also.values()
            for h in spellings
            if h in source.also
        ]
    names: dict[str, str] = {}
    for name, table in layout.tables.items():
        if name.lower() in names:
            out.append(
                Mistake(("tables", name), f'"{names[name.lower()]}" is the same name to a database')
            )
        names.setdefault(name.lower(), name)
        out += _of_table(layout, name, table)
    for name in layout.sources:
        bases = [n for n, t in layout.tables_of(name).items() if t.each_row]
        if len(bases) != 1:
            have = f"{len(bases)} tables have" if bases else "no table has"
            those = f" ({', '.join(bases)})" if bases else ""
            what = f"{have} each_row = true for this source{those}; exactly one must have it"
            out.append(Mistake(("sources", name), what))
        out += _columns_of_source(layout, name)
    out += [] if out else _circles(layout)
    if not out:
        looked_up = {
            link.to
            for t in layout.tables.values()
            for link in t.links.values()
            if link.by and t.source == layout.tables[link.to].source
        }
        for name, table in layout.tables.items():
            if name not in looked_up and layout.path(layout.base_of(table.source), name) is None:
                base = layout.base_of(table.source)
                out.append(
                    Mistake(
                        ("tables", name), f'it gets no records: no link leads to it from "{base}"'
                    )
                )
    return out


def _of_table(layout: Layout, name: str, table: TableSpec) -> list[Mistake]:
    """What one table says that cannot be true."""
    out: list[Mistake] = []
    here = ("tables", name)

    def wrong(what: str, *further: str) -> None:
        out.append(Mistake((*here, *further), what))

    if not table.source:
        wrong("set its source: the layout has several")
    out += _names_of_engines(layout, name, table)
    out += _wrong_names(layout, here, table)
    if not table.each_row and not table.known_by:
        wrong("set known_by, or each_row = true for a record per row")
    if table.also_from and (
        not table.known_by or any(k not in table.columns for k in table.known_by)
    ):
        wrong("a table of several sources must be known_by columns of its own", "also_from")
    if table.known == "add" and (not table.each_row or not isinstance(table.key, str)):
        wrong(
            "only records of a table with each_row and a generated key can be added again", "known"
        )
    if not isinstance(table.key, str) and not table.key:
        wrong("name at least one column, or leave it out for a generated key", "key")
    counted = layout.counted(name)
    if counted and not (
        table.each_row
        and table.columns[counted].is_plain
        and table.columns[counted].of_type.kind == "integer"
    ):
        wrong(
            f'"{counted}" can only be the generated key of a table with each_row, as an integer '
            "with a header",
            "key",
        )
    same: dict[str, str] = (
        {} if not isinstance(table.key, str) or counted else {layout.key_of(name).lower(): "key"}
    )
    for c in (*table.links, *table.columns):
        if c.lower() in same:
            wrong(
                "the primary key is called so"
                if same[c.lower()] == "key"
                else f'"{same[c.lower()]}" is the same name to a database',
                "links" if c in table.links else "columns",
                c,
            )
        same[c.lower()] = c
    for column, link in table.links.items():
        out += _of_link(layout, (*here, "links", column), table, link)
    for column, spec in table.columns.items():
        out += _of_column(layout, (*here, "columns", column), table, spec)
    if table.only_rows and table.source in layout.sources:
        out += _of_expression(layout, (*here, "only_rows"), table.source, table.only_rows, BOOLEAN)
    return [*out, *_parts(layout, here, table), *_exceptions(layout, here, name, table)]


def _names_of_engines(layout: Layout, name: str, table: TableSpec) -> Iterator[Mistake]:
    """Names that Kerfmark or an engine keeps for itself, of tables that are to be made."""
    if layout.existing:
        return
    if is_kept_back(name):
        yield Mistake(
            ("tables", name), f'no table can be called "{name}": Kerfmark or an engine keeps it'
        )
    for key, names in (("columns", table.columns), ("links", table.links)):
        for c in names:
            if c.lower() in kept_columns():
                yield Mistake(
                    ("tables", name, key, c), f'no column can be called "{c}": an engine keeps it'
                )


def _wrong_names(layout: Layout, here: tuple[str, ...], table: TableSpec) -> Iterator[Mistake]:
    """Sources, columns and links that a table names and that are not there, or cannot be what they
    are named for."""
    for key, some in (
        ("source", [table.source] if table.source else []),
        ("also_from", table.also_from),
    ):
        for source in some:
            if source not in layout.sources:
                yield Mistake(
                    (*here, key), f'there is no source "{source}"{near(source, layout.sources)}'
                )
    known = {*table.columns, *table.links}
    for key, names in (
        ("known_by", table.known_by),
        ("optional", table.optional),
        ("unique", [c for u in table.unique for c in u]),
        ("order", [o.removeprefix("-") for o in table.order]),
        ("key", () if isinstance(table.key, str) else table.key),
    ):
        for c in names:
            if c not in known:
                yield Mistake((*here, key), f'there is no column or link "{c}"{near(c, known)}')
    for c in table.optional:
        if c in table.known_by and not table.each_row:
            yield Mistake((*here, "optional"), f'"{c}" is part of known_by, which must be filled')
        elif not isinstance(table.key, str) and c in table.key:
            yield Mistake((*here, "optional"), f'"{c}" is part of the key, which must be filled')


def _of_link(
    layout: Layout, here: tuple[str, ...], table: TableSpec, link: LinkSpec
) -> Iterator[Mistake]:
    parent = layout.tables.get(link.to)
    if parent is None:
        yield Mistake(here, f'there is no table "{link.to}"{near(link.to, layout.tables)}')
    elif link.by:
        for c in (*link.by, *link.repeats):
            if layout.follow(link.to, c) is None:
                yield Mistake(
                    here, f'the table "{link.to}" has no column "{c}"{near(c, parent.columns)}'
                )
        further = [c.split(".") for c in link.by if "." in c]
        if further and (link.loose or link.missing != "create"):
            yield Mistake(here, "loose and missing need columns of the parent itself in by")
        for own, *rest in further:
            target = parent.links.get(own)
            if target is not None and list(target.by) != rest:
                yield Mistake(
                    here, f'"{own}" is found by {" + ".join(target.by) or "the row"} itself'
                )
        if {c.split(".")[0] for c in link.by} not in [set(u) for u in parent.unique_sets]:
            yield Mistake(
                here,
                f'{" + ".join(link.by)} is not what the table "{link.to}" is known_by, nor unique '
                "in it",
            )
    elif link.repeats or link.loose or link.missing != "create":
        yield Mistake(here, "repeats, loose and missing need by")
    elif not parent.known_by and table.part_of != link.to:
        yield Mistake(here, f'the table "{link.to}" has no known_by to be found through')
    elif parent.source != table.source and table.source not in parent.also_from:
        yield Mistake(
            here,
            f'the table "{link.to}" is fed by another source; set by = {{ ITS COLUMN = "HEADER" }}',
        )


def _of_column(
    layout: Layout, here: tuple[str, ...], table: TableSpec, spec: ColumnSpec
) -> Iterator[Mistake]:
    if spec.conflicts != "refuse" and (table.each_row or table.part_of):
        yield Mistake(
            (*here, "conflicts"),
            "every row is a record of its own here: there is nothing to choose from",
        )
    if spec.derived and table.source in layout.sources:
        yield from _of_expression(layout, (*here, "derived"), table.source, spec.derived, None)
        yield from _of_derived_type(layout, here, table.source, spec)
    for key, texts in (("allowed", spec.allowed), ("least", (spec.least,)), ("most", (spec.most,))):
        for text in texts:
            if text and _limit(text, spec.of_type) is None:
                yield Mistake(
                    (*here, key), f'"{text}" is not {article(spec.of_type.kind)} ({spec.type})'
                )
    if (spec.least or spec.most) and spec.of_type.kind in ("text", "boolean"):
        yield Mistake(
            here,
            f"a {spec.of_type.kind} has no order: least and most are for numbers, dates and times",
        )
    if spec.unit and (said := unknown_unit(spec.unit)):
        yield Mistake((*here, "unit"), said)


_NUMBERS = frozenset({"integer", "decimal", "real"})
_BECOMES = {("date", "timestamp"), ("timestamp", "date"), ("timestamp", "time")}
"""Kinds of values that a column of another kind takes all the same, beside numbers and texts."""


def _of_derived_type(
    layout: Layout, here: tuple[str, ...], source: str, spec: ColumnSpec
) -> Iterator[Mistake]:
    """The type of a derived column that its expression cannot give."""
    try:
        given = parse_expression(spec.derived, types_of(layout, source)).type.kind
    except ExpressionError:
        return
    wanted = spec.of_type.kind
    if wanted in (given, "text") or {wanted, given} <= _NUMBERS or (given, wanted) in _BECOMES:
        return
    how = {"date": "date(.., 'DD.MM.YYYY')", **dict.fromkeys(_NUMBERS, "number(..)")}
    advice = f"; {how[wanted]} makes one of a text" if given == "text" and wanted in how else ""
    yield Mistake(
        (*here, "type"),
        f"what is derived here is {article(given)}, and the type is {spec.type}{advice}",
    )


def _limit(text: str, type_: ColumnType) -> Any:
    import pyarrow as pa

    return to_typed(pa.array([text]), type_)[0].as_py()


def unknown_unit(unit: str) -> str:
    """What is wrong with a change of units, "" when nothing is."""
    from kerfmark.profile.units import why_not

    return why_not(unit)


def _of_expression(
    layout: Layout, here: tuple[str, ...], source: str, text: str, wanted: ColumnType | None
) -> Iterator[Mistake]:
    try:
        node = parse_expression(text, types_of(layout, source))
    except ExpressionError as error:
        yield Mistake(here, str(error))
        return
    if wanted and node.type != wanted:
        yield Mistake(
            here, f"this gives a {node.type.kind}; it must say yes or no, such as [Kind] = 'hive'"
        )


def other_headers(text: str, headers: Collection[str]) -> set[str]:
    """The headers that an expression names beside these; none where it cannot be understood, which
    is told elsewhere."""
    try:
        return {*parse_expression(text, lambda header, at: TEXT).headers()} - {*headers}
    except ExpressionError:
        return set()


def _parts(layout: Layout, here: tuple[str, ...], table: TableSpec) -> Iterator[Mistake]:
    """What a table that is part of another, or is not, says wrongly about that."""
    several = {
        n: c for n, c in table.columns.items() if c.headers or c.told or c.position or c.split
    }
    splits = [c for c in table.columns.values() if c.split]
    if not table.part_of:
        if not table.each_row and len(splits) == len(table.columns) == 1 and table.known_by:
            return  # the list of all parts
        for n, c in several.items():
            yield (
                Mistake(here, "a column with split needs part_of")
                if c.split
                else Mistake(
                    (*here, "columns", n),
                    "only a table that is part_of another can have such a column",
                )
            )
        return
    if table.part_of not in layout.tables:
        yield Mistake(
            (*here, "part_of"),
            f'there is no table "{table.part_of}"{near(table.part_of, layout.tables)}',
        )
        return
    if not any(link.to == table.part_of and not link.by for link in table.links.values()):
        yield Mistake(here, f'it is part_of "{table.part_of}", but no link leads there')
    counts = {len(c.headers or c.told) for c in table.columns.values() if c.headers or c.told}
    cells = {c.header for c in splits} | {
        h for link in table.links.values() for h in link.by.values()
    }
    if (counts and cells) or len(counts) > 1 or not (counts or cells) or len(cells) > 1:
        yield Mistake(
            here,
            "its columns must come from the same number of headers each, or from the parts of one "
            "cell",
        )
    for n, c in table.columns.items():
        if c.header and not c.split:
            yield Mistake((*here, "columns", n), "a plain header cannot be beside such columns")
        elif c.derived and (not cells or other_headers(c.derived, cells)):
            yield Mistake(
                (*here, "columns", n, "derived"),
                "in a table of the parts of a cell it can name only the column that is split"
                if cells
                else "only a table of the parts of a cell can have such a column here",
            )
    if table.order or table.only_rows:
        yield Mistake(here, "order and only_rows are for tables with rows of their own")


def _exceptions(
    layout: Layout, here: tuple[str, ...], name: str, table: TableSpec
) -> Iterator[Mistake]:
    """Columns of exceptions without what is usual, and the other way round."""
    for column, spec in table.columns.items():
        if spec.instead_of and not table.each_row:
            yield Mistake(
                (*here, "columns", column), "only a table with each_row can have instead_of"
            )
        elif (spec.instead_of or spec.usual) and not layout.exceptional(table.source, spec.header):
            other = (
                f'in table "{spec.instead_of}" with usual = true'
                if spec.instead_of
                else f'with instead_of = "{name}"'
            )
            yield Mistake(
                (*here, "columns", column), f"there must be a column {other} for the same header"
            )


def _columns_of_source(layout: Layout, source: str) -> Iterator[Mistake]:
    """Headers that several columns take. Only what the table with a record per row says may also
    lead from another table to a record."""
    seen: dict[str, str] = {}
    tables = layout.tables_of(source)
    listed = {n for n, t in tables.items() if any(c.split for c in t.columns.values())}
    for name, table in tables.items():
        own = {h for c in table.columns.values() for h in c.sources}
        for header in dict.fromkeys(table.headers):
            if layout.tables[seen.get(header, name)].each_row and header not in own:
                seen.setdefault(header, name)
                continue
            both = {name, seen.get(header, "")}
            if layout.existing and any(  # the record is found there by this value
                link.to in both and header in link.by.values()
                for n in both & {*tables}
                for link in tables[n].links.values()
            ):
                continue
            in_lists = both & listed
            if header in seen and not in_lists and not layout.exceptional(source, header):
                yield Mistake(
                    ("tables", name),
                    f'"{header}" of source "{source}" is already in table "{seen[header]}"',
                )
            seen.setdefault(header, name)


def _circles(layout: Layout) -> list[Mistake]:
    """Links that must be filled and lead back to where they started."""
    for name in layout.tables:
        seen, at = {name}, [name]
        for here in at:
            for link in layout.tables[here].links.values():
                if link.to == name and not link.by:
                    return [
                        Mistake(("tables", name), f'its links lead back to itself through "{here}"')
                    ]
                if link.to not in seen and not link.by:
                    seen.add(link.to)
                    at.append(link.to)
    return _key_circles(layout)  # links by value may lead in circles: the rows decide


def _key_circles(layout: Layout) -> list[Mistake]:
    """Primary keys that are made of links which lead back to them."""
    for name in layout.tables:
        seen, at = {name}, [name]
        for here in at:
            spec = layout.tables[here]
            for to in (
                []
                if isinstance(spec.key, str)
                else [spec.links[k].to for k in spec.key if k in spec.links]
            ):
                if to == name:
                    return [
                        Mistake(("tables", name, "key"), "it is made of links that lead back to it")
                    ]
                if to not in seen:
                    seen.add(to)
                    at.append(to)
    return []
