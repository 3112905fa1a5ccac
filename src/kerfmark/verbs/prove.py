"""prove: reads the sources again and compares them with what the database holds, row by row."""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path

from kerfmark.errors import Origin, SourceError
from kerfmark.layout.derive import settled
from kerfmark.layout.text import parse_layout
from kerfmark.ledger.prove import SourceProof, prove_source
from kerfmark.ledger.records import LoadedFile, read_ledger, rows_set_aside
from kerfmark.profile.encode import EncodedSource, encode, records_of
from kerfmark.progress import Progress, silent
from kerfmark.read.alike import parts_of
from kerfmark.store.sqlite.files import broken_links, reading
from kerfmark.verbs.sources import open_source


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
    started, path = time.perf_counter(), Path(database)
    with reading(path) as db:
        text, files = read_ledger(db, path)
        layout = parse_layout(text, "the layout in the database")
        aside = rows_set_aside(db)
        opened: dict[str, tuple[EncodedSource, list[LoadedFile]]] = {}
        proofs = []
        for source in dict.fromkeys(f.source for f in files):
            mine = [f for f in files if f.source == source]
            for loaded in mine:
                if loaded.file == "-" or not ("://" in loaded.file or (path.parent / loaded.file).exists()):
                    raise SourceError("the file that was loaded is no longer there", code="source.missing",
                                      origin=Origin(loaded.file), next="put it back, or move the database with it")
            spec = layout.sources[source]
            here = [p.model_copy(update={"file": f.file}) for p, f in zip(spec.parts, mine, strict=False)]
            if not spec.is_pattern:
                spec = spec.model_copy(update={"parts": tuple(here)} if here else {"file": mine[0].file})
            gone = [r for r in aside if r.source == source]
            opened[source] = encode(open_source(source, spec, path.parent, [f.file for f in mine]), progress, strict=not gone), mine
        layout = settled(layout, {n: e.source.headers for n, (e, _) in opened.items()})
        for source, (encoded, mine) in opened.items():
            changed = [p.fingerprint for p in parts_of(encoded.source)] != [f.fingerprint for f in mine]
            without = records_of(encoded, [(r.file, r.sheet, r.row) for r in aside if r.source == source])
            proofs.append(prove_source(path, db, layout, source, encoded, encoded.source.origin().file, changed, progress, without))
        there = {n for (n,) in db.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
        broken = tuple(f"{t}.{c}" for t in layout.tables if t in there for c in broken_links(db, t))
    return ProveResult(str(database), tuple(proofs), broken, round(time.perf_counter() - started, 3))
