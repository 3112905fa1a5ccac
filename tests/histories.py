"""Random histories of a database: files are cut, added with any policy, taken back, changed and
loaded anew, added again, files of another kind put beside, the layout changed; what is in the
database is asked for in plain SQL and held against the model in `history_model`."""

from __future__ import annotations

import contextlib
import csv
import io
import os
import random
import re
import shutil
import sys
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from hypothesis import HealthCheck, Phase, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule

import kerfmark
from engines import target
from history_model import HEADERS, LAYOUT, ONLY, Account, Refused, Row, State, load

Standing = tuple[str, str, bool]
"""A load: its file, its policy, whether rows were set aside."""
PHASES = (
    [p for p in Phase if p is not Phase.shrink]
    if os.environ.get("KERFMARK_NO_SHRINK")
    else list(Phase)
)
STEPS: dict[str, int] = {}
"""How often each step was taken, and refused."""
COLOURS = {"H1": "red", "H2": "", "H3": "blue"}
NOTES = {("A", "p"): "wet", ("A", "q"): "", ("B", "p"): "dry"}
POLICIES = ("", "keep", "fill", "overwrite", "replace")


RECUT = (
    (),
    (
        ('known_by = ["hive"]\n', 'known_by = ["hive"]\ncomment = "as on the lid"\n'),
        ('type = "decimal(6,1)"}', 'type = "decimal(9,2) 0.##"}\nname = {derived = "[hive] & [no]"}'),
        ("[tables.mite]", "[tables.mite_count]"),
    ),
    (
        ('kg = {header = "kg", type = "decimal(6,1)"}', 'kg = {header = "kg", type = "real"}'),
        ("[tables.visit_tag]", "[tables.tagged]"),
        ('columns = ["apiary", "place", "note"]', 'columns = ["note"]\nlinks = ["apiary", "place"]'),
        ('known_by = ["apiary", "place"]', 'known_by = ["apiary_id", "place_id"]'),
        (
            "[tables.mite]",
            '[tables.apiary]\nknown_by = ["apiary"]\ncolumns = ["apiary"]\n'
            '[tables.place]\nknown_by = ["place"]\ncolumns = ["place"]\n[tables.mite]',
        ),
    ),
)  # fmt: skip
"""What is edited in the layout, in three ways: the tables of the model are the same in each, under
the same names and keys, but where spots are known by the names of two tables of their own."""


def rows_of(chance: random.Random, most: int) -> list[Row]:
    """The rows of a file; mostly they say of hives and places what other files say too."""
    one_of = chance.choice
    colours = {h: one_of([c, c, c, c, "", "green"]) for h, c in COLOURS.items()}
    notes = {p: one_of([n, n, n, n, "new"]) for p, n in NOTES.items()}
    rows: list[Row] = []
    for no in chance.sample(range(1, 8), chance.randint(1, most)):
        hive, spot = (
            one_of(["H1", "H2", "H3"]),
            one_of([("", ""), ("A", "p"), ("A", "q"), ("B", "p")]),
        )
        rows.append(
            {
                "no": str(no),
                "kg": one_of(["", "1.5", "2.0"]),
                "hive": hive,
                "colour": colours[hive],
                "apiary": spot[0],
                "place": spot[1],
                "note": notes.get(spot, ""),
                "after": one_of(["", "", "", "", "1", "2", "9"]),
                "m1": one_of(["", "3"]),
                "m2": one_of(["", "", "4", "5"]),
                "tags": one_of(["", "", "x", "x;y"]),
            }
        )
    return rows


def files(most: int = 4) -> st.SearchStrategy[list[Row]]:
    """Files of at most so many rows; each is one number to hypothesis, as a history has many."""
    return st.builds(lambda seed: rows_of(random.Random(seed), most), st.integers(0, 1 << 30))


def text(rows: Sequence[Row]) -> str:
    """Rows as a file."""
    out = io.StringIO()
    writer = csv.DictWriter(out, HEADERS, lineterminator="\n")
    writer.writeheader()
    writer.writerows(rows)
    return out.getvalue()


class History(RuleBasedStateMachine):
    """One database; subclasses name its engine."""

    engine = "SQLite"

    @initialize(rows=files(5), missing=st.sampled_from(["refuse", "blank"]))
    def cut(self, rows: list[Row], missing: str) -> None:
        self.stack = contextlib.ExitStack()
        self.folder = Path(tempfile.mkdtemp())
        self.stack.callback(shutil.rmtree, self.folder)
        self.db = self.stack.enter_context(target(self.engine, self.folder))
        self.url = self.folder / self.db.url if self.db.is_file else self.db.url
        self.missing, self.made = missing, 0
        self.ready = False
        self.files: dict[str, list[Row]] = {}
        self.live: dict[int, Standing] = {}
        (self.folder / "l.toml").write_text(LAYOUT.replace("MISSING", missing))
        numbers = {r["no"] for r in rows}
        self._write(
            "f0.csv",
            [r if missing == "blank" or r["after"] in numbers else r | {"after": ""} for r in rows],
        )
        kerfmark.cut([self.folder / "l.toml"], self.url)
        self.live[1] = "f0.csv", "", False
        self.edit, self.beside_made = 0, False
        self.keys: dict[tuple[str, str], int] = {}
        self.ready = True

    def _write(self, name: str, rows: list[Row]) -> None:
        self.files[name] = rows
        (self.folder / name).write_text(text(rows))

    def _model(self, live: dict[int, Standing] | None = None) -> tuple[State, dict[int, Account]]:
        """What loading in order gives."""
        state, accounts = State(), {}
        for number, (name, policy, aside) in sorted((self.live if live is None else live).items()):
            state, accounts[number] = load(state, self.files[name], policy, self.missing, aside)
        return state, accounts

    def _refused_as_the_model(self, work: Callable[[], Any], live: dict[int, Standing]) -> Any:
        """The result of work; None where it was refused, as it must be, and then nothing has
        changed."""
        try:
            self._model(live)
            possible = ""
        except Refused as why:
            possible = f"the model says: {why}"
        before = self.dump()
        step = sys._getframe(1).f_code.co_name
        try:
            out = work()
            STEPS[step] = STEPS.get(step, 0) + 1
        except kerfmark.DataRefused as refused:
            STEPS[f"{step}, refused"] = STEPS.get(f"{step}, refused", 0) + 1
            if not possible:
                STEPS[f"{step}, refused though the model can"] = (
                    STEPS.get(f"{step}, refused though the model can", 0) + 1
                )
            assert self.dump() == before
            assert possible or self.may_refuse(refused), (
                f"refused, but it can be: {refused}, {refused.why}, {refused.more}"
            )
            return None
        assert not possible, possible
        return out

    def may_refuse(self, refused: kerfmark.DataRefused) -> bool:
        """Refusals of what the model can do: parts that were not taken over are not in the ledger,
        and a link that would have been left blank is not made blank afterwards."""
        why = refused.why or ""
        if refused.code == "data.replaced":
            return True
        if refused.code == "data.depends" and any(aside for _, _, aside in self.live.values()):
            return True  # rows would have to be set aside, or to come back
        return "has other rows of" in why or (
            self.missing == "blank" and "refer to rows of visit" in why
        )

    @rule(
        rows=files(), policy=st.sampled_from(POLICIES), aside=st.sampled_from([False, False, True])
    )
    def add_any(self, rows: list[Row], policy: str, aside: bool) -> None:
        self.add(rows, policy, aside)

    def add(self, rows: list[Row], policy: str, aside: bool) -> None:
        name = f"f{self.made + 1}.csv"
        if text(rows) in [text(r) for r in self.files.values()]:
            return
        self.made += 1
        self._write(name, rows)
        number = max(n.number for n in kerfmark.loads(self.url).loads) + 1
        bad = self.folder / f"bad{self.made}.csv" if aside else None
        done = self._refused_as_the_model(
            lambda: kerfmark.add(
                [self.folder / name],
                self.url,
                known=policy.removeprefix(ONLY),
                only_known=policy.startswith(ONLY),
                set_aside=bad,
            ),
            self.live | {number: (name, policy, aside)},
        )
        if done is None:
            del self.files[name]
        else:
            assert done.load == number
            self.live[number] = name, policy, aside

    @rule(at=st.integers(0, 5), policy=st.sampled_from(POLICIES[1:]))
    def add_again(self, at: int, policy: str) -> None:
        name = sorted(self.live.items())[at % len(self.live)][1][0]
        number = max(n.number for n in kerfmark.loads(self.url).loads) + 1
        if self._refused_as_the_model(
            lambda: kerfmark.add([self.folder / name], self.url, known=policy, again=True),
            self.live | {number: (name, policy, False)},
        ):
            self.live[number] = name, policy, False

    @rule(
        at=st.integers(0, 5), rows=files(), policy=st.sampled_from(("fill", "overwrite", "replace"))
    )
    def add_only_known(self, at: int, rows: list[Row], policy: str) -> None:
        there = list(self._model()[0].visits.values())
        chosen = [dict(v, kg=r["kg"]) for v, r in zip(there[at % len(there) :], rows, strict=False)]
        shown = {v[0]: dict(zip(HEADERS, v, strict=True)) for v in self._model()[0].view()}
        said = [
            shown[v["no"]] | {"kg": v["kg"], "m1": r["m1"]}
            for v, r in zip(chosen, rows, strict=False)
        ]
        self.add(
            [*said, *rows[-1:]] if at == 5 and said else said or rows, f"{ONLY}{policy}", False
        )

    @rule(at=st.integers(0, 5))
    def undo(self, at: int) -> None:
        if len(self.live) == 1:
            return
        number = sorted(self.live)[at % len(self.live)]
        rest = {n: f for n, f in self.live.items() if n != number}
        if self._refused_as_the_model(lambda: kerfmark.undo(self.url, number), rest):
            self.live = rest

    @rule(at=st.integers(1, 5))
    def undo_through(self, at: int) -> None:
        if len(self.live) > 1:
            number = sorted(self.live)[1 + at % (len(self.live) - 1)]
            kerfmark.undo(self.url, number, through=True)
            self.live = {n: f for n, f in self.live.items() if n < number}

    @rule(at=st.integers(0, 5), rows=files())
    def refresh(self, at: int, rows: list[Row]) -> None:
        name = sorted(self.live.items())[at % len(self.live)][1][0]
        if text(rows) in [text(r) for r in self.files.values()]:
            return
        old = self.files[name]
        self._write(name, rows)
        done = self._refused_as_the_model(lambda: kerfmark.refresh(self.url), self.live)
        if done is None:
            self._write(name, old)
            return
        for was, added in zip(sorted(done.undone), done.added, strict=True):
            if was in self.live:  # else it is that of the files of another kind
                self.live[added.load] = self.live.pop(was)

    @rule(edit=st.sampled_from([1, 2, 0]))
    def recut(self, edit: int) -> None:
        text_ = kerfmark.layout_of(self.url)
        if edit == self.edit or "also" in text_:
            return
        there = LAYOUT.replace("MISSING", self.missing)
        more = text_[text_.index("[sources.jars]") :] if self.beside_made else ""
        for old, new in RECUT[edit]:
            assert there.count(old) == 1, old
            there = there.replace(old, new)
        if self.beside_made:  # tables then name their source
            for table in re.findall(r"\[tables\.\w+\]\n", there):
                there = there.replace(table, f'{table}source = "visits"\n')
        (self.folder / "edited.toml").write_text(f"{there}\n{more}")
        done = kerfmark.recut(self.url, self.folder / "edited.toml")
        STEPS["recut"] = STEPS.get("recut", 0) + 1
        assert not done.problems
        if 2 in (edit, self.edit):  # spots are then known by other things
            self.keys = {k: v for k, v in self.keys.items() if k[0] != "spot"}
        self.edit = edit

    @rule()
    def beside(self) -> None:
        if self.beside_made:
            return
        (self.folder / "jars.csv").write_text("jar,cents\nsmall,450\nlarge,790\n")
        kerfmark.cut([self.folder / "jars.csv"], self.url, beside=True)
        STEPS["beside"] = STEPS.get("beside", 0) + 1
        self.beside_made = True

    @invariant()
    def the_database_is_what_the_model_says(self) -> None:
        if not getattr(self, "ready", False):
            return
        state, accounts = self._model()
        asked = ", ".join(f'"{h}"' for h in HEADERS)
        numbered = (("visit", "no"), ("hive", "hive"), ("tag", "tag"))
        view, hives, spots, tags, *keys = self.db.ask_all(
            [
                f"SELECT {asked} FROM visits_flat",
                "SELECT hive, colour FROM hive",
                "SELECT apiary, place, note FROM spot"
                + (" JOIN apiary USING (apiary_id) JOIN place USING (place_id)" * (self.edit == 2)),
                "SELECT tag FROM tag",
                *(f"SELECT {t}_id, {k} FROM {t}" for t, k in numbered),
            ]
        )
        assert (
            sorted(tuple(_text(v, h) for v, h in zip(row, HEADERS, strict=True)) for row in view)
            == state.view()
        )
        assert {h: c or "" for h, c in hives} == state.hives
        assert {(a, p): n or "" for a, p, n in spots} == state.spots
        assert set(tags) == state.tags
        now = {
            (table, str(known_by)): key
            for (table, _), some in zip(numbered, keys, strict=True)
            for key, known_by in some
        }
        assert {k: i for k, i in now.items() if k in self.keys} == {
            k: i for k, i in self.keys.items() if k in now
        }
        self.keys = now
        self.check_account(accounts)

    def check_account(self, accounts: dict[int, Account]) -> None:
        """What the proof says of every file."""
        proof = kerfmark.prove(self.url)
        assert proof.holds, proof.proofs
        for load_, mine in accounts.items():
            [told] = [a for a in proof.account if a.load == load_]
            assert told.balances and (told.own, told.set_aside) == (mine.own, mine.set_aside), (
                load_,
                told,
                mine,
            )
        [source] = [p for p in proof.proofs if p.source == "visits"]
        assert source.own == sum(a.own for a in accounts.values())

    def dump(self) -> Any:
        """All rows of all tables, the ledger's too."""
        tables = self.db.tables()
        found = self.db.ask_all([f'SELECT * FROM "{t}"' for t in tables])
        return {t: sorted(rows, key=repr) for t, rows in zip(tables, found, strict=True)}

    def teardown(self) -> None:
        if hasattr(self, "stack"):
            self.stack.close()


def _text(value: Any, header: str) -> str:
    return "" if value is None else f"{value:.1f}" if header == "kg" else str(value)


def machine(engine: str, examples: int, steps: int = 6, *, same: bool = True) -> Any:
    """The tests of so many histories on an engine: the `same` ones in every run, or others each
    time (`bench/histories.py`)."""
    kind = type(f"On{engine}", (History,), {"engine": engine})
    case = kind.TestCase
    case.settings = settings(
        max_examples=examples,
        stateful_step_count=steps,
        deadline=None,
        database=None,
        derandomize=same,
        suppress_health_check=list(HealthCheck),
        phases=PHASES,
    )
    return case
