"""prove: reads the sources again and compares them with what the database holds, row by row."""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path

from kerfmark import __version__
from kerfmark.layout.derive import settled
from kerfmark.layout.model import Layout
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.account import FileAccount, accounts
from kerfmark.ledger.as_made import rows_by_hand, what_is_gone
from kerfmark.ledger.file_rows import FileRows, rows_of_files
from kerfmark.ledger.prove import SaidOtherwise, SourceProof, prove_source
from kerfmark.ledger.records import Ledger, LoadedFile, RowSetAside
from kerfmark.ledger.source_values import as_known
from kerfmark.profile.encode import EncodedSource, encode
from kerfmark.progress import Progress, silent
from kerfmark.store.quoting import quote
from kerfmark.verbs.loads import LoadShown, shown
from kerfmark.verbs.read_only import database_to_read
from kerfmark.verbs.recording import now
from kerfmark.verbs.sources import open_loaded

__all__ = ["FileRows", "ProveResult", "SaidOtherwise", "SourceProof", "prove"]


@dataclass(frozen=True)
class ProveResult:
    """The outcome per source, the account of each file of each load, what the rows of each file are
    (`files`), and the foreign key columns with a value that refers to no record, as table.column;
    further what was proven: the loads with their files, rows per table, rows that were set aside,
    what is `gone` of what the layout asks for (in
    words), tables with rows that came with no load (`by_hand`), what the layout does on purpose (in
    words), and the layout itself; when (UTC) and by which version."""

    database: str
    proofs: tuple[SourceProof, ...]
    account: tuple[FileAccount, ...]
    files: tuple[FileRows, ...]
    broken_links: tuple[str, ...]
    loads: tuple[LoadShown, ...]
    tables: tuple[tuple[str, int], ...]
    set_aside: tuple[RowSetAside, ...]
    gone: tuple[str, ...]
    by_hand: tuple[tuple[str, int], ...]
    on_purpose: tuple[str, ...]
    layout: str
    at: str
    version: str
    seconds: float

    @property
    def holds(self) -> bool:
        """Whether nothing differs, but for what the ledger explains, and every account balances."""
        return not self.gone and self.rows_hold

    @property
    def rows_hold(self) -> bool:
        """The same of the rows alone, whatever became of keys, links and views."""
        return (
            not self.broken_links
            and all(p.holds for p in self.proofs)
            and all(a.balances for a in self.account)
        )


def prove(database: str | Path, *, progress: Progress = silent) -> ProveResult:
    """Compares every row of every source with the database's own rows, as typed values.

    Raises TargetError when Kerfmark did not make the database, SourceError when a source is no
    longer there.
    """
    started, where = time.perf_counter(), database_to_read(database)
    with where.reading() as reader:
        ledger = Ledger(reader)
        layout = parse_layout(ledger.layout, "the layout in the database")
        opened: dict[str, tuple[EncodedSource, list[LoadedFile]]] = {}
        for name in dict.fromkeys(f.source for f in ledger.live_files):
            mine = [f for f in ledger.live_files if f.source == name]
            gone = [r for r in ledger.set_aside if r.source == name]
            source = open_loaded(layout, name, mine, where.folder or Path(), as_known)
            opened[name] = encode(source, progress, strict=not gone), mine
        layout = settled(layout, {n: e.source.headers for n, (e, _) in opened.items()})
        live = {load.number for load in ledger.live}
        proofs = []
        for name, (encoded, mine) in opened.items():
            changed = any(
                f.fingerprint and found.fingerprint != f.fingerprint
                for (_, found, _), f in zip(encoded.parts(), mine, strict=True)
            )
            proofs.append(
                prove_source(
                    reader,
                    ledger,
                    layout,
                    name,
                    encoded,
                    encoded.source.origin().file,
                    changed,
                    progress,
                )
            )
        broken = tuple(
            f"{t}.{c}" for t in layout.tables if reader.facts(t) for c in reader.broken_links(t)
        )
        rows = tuple(
            (t, int(reader.ask(f"SELECT COUNT(*) FROM {quote(t)}")[0][0]))
            for t in layout.tables
            if reader.facts(t)
        )
        missing = tuple(what_is_gone(reader, layout))
        by_hand = () if layout.existing else tuple(rows_by_hand(reader, ledger, dict(rows)))
        account = tuple(accounts(ledger, reader, {s: layout.base_of(s) for s in layout.sources}))
    not_loaded = tuple(r for r in ledger.set_aside if r.load in live)
    return ProveResult(
        where.name,
        tuple(proofs),
        account,
        tuple(one for encoded, _ in opened.values() for one in rows_of_files(encoded)),
        broken,
        tuple(shown(ledger, load) for load in ledger.live),
        rows,
        not_loaded,
        missing,
        by_hand,
        tuple(on_purpose(layout)),
        ledger.layout,
        now(),
        __version__,
        round(time.perf_counter() - started, 3),
    )


def on_purpose(layout: Layout) -> list[str]:
    """What a layout changes of the values in the files, in words."""
    out = [
        f"{n}: {', '.join(s.left_out)} left out" for n, s in layout.sources.items() if s.left_out
    ]
    out += [
        f"{n}: spaces at the ends of cells left out" for n, s in layout.sources.items() if s.trim
    ]
    out += [
        f"{n}: blank cells of {', '.join(s.fill_down)} filled with what is above"
        for n, s in layout.sources.items()
        if s.fill_down
    ]
    for name, table in layout.tables.items():
        if table.only_rows:
            out.append(f"{name}: only rows for which {table.only_rows}")
        for column, c in table.columns.items():
            said = [f"made clean ({', '.join(c.clean)})"] if c.clean else []
            said += [
                f'"{k}" means {v or "a blank"}' if k else f"a blank means {v}"
                for k, v in c.means.items()
            ]
            said += [f"a blank becomes {c.default}"] if c.default else []
            said += [f"unit {c.unit}"] if c.unit else []
            said += [f"derived: {c.derived}"] if c.derived else []
            said += (
                [f"of several values of one record, the {c.conflicts}"]
                if c.conflicts != "refuse"
                else []
            )
            out += [f"{name}.{column}: {'; '.join(said)}"] if said else []
        for link, target in table.links.items():
            if target.loose or target.missing == "blank":
                how = [
                    *(["found without regard to case and spaces"] if target.loose else []),
                    *(["left blank where nothing is found"] if target.missing == "blank" else []),
                ]
                out.append(f"{name}.{link}: {', '.join(how)}")
    return out
