"""The proof as a page to keep: what was read, what was built, what was compared and how, and what
is otherwise on purpose."""

from __future__ import annotations

from kerfmark.draw.document import Section, document
from kerfmark.errors import counted
from kerfmark.verbs.prove import ProveResult

_HOW = (
    "Each file was read again and its fingerprint taken. The tables were rejoined by the database "
    "itself, through the view of "
    "each source, and every row was compared with the file as a row of typed values, as often as "
    "it occurs: numbers as "
    "numbers, dates as dates, texts to the last letter. The texts of the file are turned into "
    "values in another way than when "
    "the tables were made. Every foreign key was looked up."
)
_COMPARED = (
    "source",
    "rows",
    "cells",
    "differences",
    "cells changed by the layout",
    "file as it was",
)
_ACCOUNT = (
    "file",
    "load",
    "rows read",
    "records of their own",
    "set aside",
    "left out",
    "known and the same",
    "known and different",
    "balances",
)
_OTHERWISE = ("file", "sheet", "row", "column", "in the file", "in the database", "why")
_READ = ("file", "load", "by", "on (UTC)", "rows", "bytes", "fingerprint (XXH3, 128 bits)")


def proof_page(result: ProveResult) -> str:
    """The page."""
    rows, cells = sum(p.rows for p in result.proofs), sum(p.cells for p in result.proofs)
    wrong = sum(p.total for p in result.proofs)
    otherwise = sum(len(p.otherwise) for p in result.proofs)
    outcome = (
        ("all are in the database" if result.by_hand else "all are in the database, and no others")
        if not otherwise
        else f"{counted(otherwise, 'cell')} differ for reasons that the database's own history "
        "tells, and are listed below"
    )
    verdict = (
        f"Proven: {counted(rows, 'row')} and {counted(cells, 'cell')} were compared; {outcome}. "
        "Every link leads to a "
        "record, and the account of every file balances."
        if result.holds
        else f"Not proven: {counted(wrong, 'difference')}, "
        f"{counted(len(result.broken_links), 'broken link')}, "
        f"{counted(len(result.gone), 'thing')} taken away. See below."
    )
    about = (
        f"made on {result.at} (UTC) by Kerfmark {result.version}, in {result.seconds:.1f} seconds"
    )
    return document(
        f"Proof of {result.database}",
        about,
        verdict,
        result.holds,
        [*_wrong(result), *_right(result)],
    )


def _wrong(result: ProveResult) -> list[Section]:
    out = [Section("Links to missing records", result.broken_links)] if result.broken_links else []
    if result.gone:
        out.append(Section("Taken away, though the layout asks for it", result.gone))
    for p in result.proofs:
        if p.differences:
            found = tuple(
                (d.row or "-", d.column or "(all)", d.in_source, d.in_database)
                for d in p.differences
            )
            out.append(
                Section(
                    f"Differences in {p.source}",
                    (),
                    ("row", "column", "in the file", "in the database"),
                    found,
                )
            )
    return out


def _right(result: ProveResult) -> list[Section]:
    compared = tuple(
        (
            p.source,
            *(f"{n:,}" for n in (p.rows, p.cells, p.total, p.changed_cells)),
            "no: it has changed" if p.changed else "yes",
        )
        for p in result.proofs
    )
    files = tuple(
        (f.file, load.number, load.verb, load.at, f"{f.rows:,}", f"{f.bytes:,}", f.fingerprint)
        for load in result.loads
        for f in load.files
    )
    out = [
        Section("What was compared", (_HOW,), _COMPARED, compared, (1, 2, 3, 4)),
        Section(
            "What became of every row",
            (),
            _ACCOUNT,
            tuple(
                (
                    a.file,
                    a.load,
                    *(
                        f"{n:,}"
                        for n in (a.read, a.own, a.set_aside, a.left_out, a.same, a.different)
                    ),
                    "yes" if a.balances else "NO",
                )
                for a in result.account
            ),
            (1, 2, 3, 4, 5, 6, 7),
        ),
        Section("What was read", (), _READ, files, (1, 4, 5)),
        Section(
            "What was built",
            (),
            ("table", "rows"),
            tuple((t, f"{n:,}") for t, n in result.tables),
            (1,),
        ),
        Section("Changed or left out on purpose", result.on_purpose or ("Nothing.",)),
    ]
    for p in result.proofs:
        if p.otherwise:
            cells = tuple(
                (
                    o.origin.file,
                    o.origin.sheet or "",
                    o.origin.row or "-",
                    o.origin.column or "",
                    o.in_file,
                    o.in_database,
                    o.reason,
                )
                for o in p.otherwise
            )
            out.append(
                Section(
                    f"Cells of {p.source} that the database has otherwise",
                    (),
                    _OTHERWISE,
                    cells,
                    (2,),
                )
            )
    if result.set_aside:
        apart = tuple((r.file, r.sheet, r.row, r.load, r.reason) for r in result.set_aside)
        out.append(
            Section("Rows set aside", (), ("file", "sheet", "row", "load", "reason"), apart, (2, 3))
        )
    return [
        *out,
        Section(
            "The layout",
            ("By this text the tables were made; the database keeps it.",),
            text=result.layout,
        ),
    ]
