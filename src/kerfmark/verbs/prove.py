"""prove: reads the sources again and compares them with what the database holds, row by row."""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path

from kerfmark.layout.derive import settled
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.prove import SourceProof, prove_source
from kerfmark.ledger.records import Ledger, LoadedFile
from kerfmark.profile.encode import EncodedSource, encode, records_of
from kerfmark.progress import Progress, silent
from kerfmark.read.alike import parts_of
from kerfmark.store.database import database_at
from kerfmark.verbs.sources import open_loaded


@dataclass(frozen=True)
class ProveResult:
    """The outcome per source, and the foreign key columns with a value that leads nowhere, as table.column."""

    database: str
    proofs: tuple[SourceProof, ...]
    broken_links: tuple[str, ...]
    seconds: float

    @property
    def holds(self) -> bool:
        """Whether nothing differs."""
        return not self.broken_links and all(p.holds for p in self.proofs)


def prove(database: str | Path, *, progress: Progress = silent) -> ProveResult:
    """Compares every row of every source with the database's own rows, as typed values.

    Raises TargetError when Kerfmark did not make the database, SourceError when a source is no longer there.
    """
    started, where = time.perf_counter(), database_at(database)
    with where.reading() as reader:
        ledger = Ledger(reader)
        layout = parse_layout(ledger.layout, "the layout in the database")
        opened: dict[str, tuple[EncodedSource, list[LoadedFile]]] = {}
        for name in dict.fromkeys(f.source for f in ledger.live_files):
            mine = [f for f in ledger.live_files if f.source == name]
            gone = [r for r in ledger.set_aside if r.source == name and not r.known]
            source = open_loaded(name, layout.sources[name], mine, where.folder or Path())
            opened[name] = encode(source, progress, strict=not gone), mine
        layout = settled(layout, {n: e.source.headers for n, (e, _) in opened.items()})
        live = {load.number for load in ledger.live}
        proofs = []
        for name, (encoded, mine) in opened.items():
            changed = [p.fingerprint for p in parts_of(encoded.source)] != [f.fingerprint for f in mine]
            apart = [r for r in ledger.set_aside if r.source == name and r.load in live]
            aside, known = (records_of(encoded, [(r.file, r.sheet, r.row) for r in apart if r.known == k]) for k in (False, True))
            proofs.append(prove_source(reader, layout, name, encoded, encoded.source.origin().file, changed, progress, aside,
                                       known))
        broken = tuple(f"{t}.{c}" for t in layout.tables if reader.facts(t) for c in reader.broken_links(t))
    return ProveResult(where.name, tuple(proofs), broken, round(time.perf_counter() - started, 3))
