"""Files of a beekeepers' club as nobody would wish them: numbers within owners, gaps, slips of the
pen, duplicates, people in two roles, registers that say more, less or something else."""

from __future__ import annotations

import random

Rows = list[list[object]]
NAMES = [
    "Ash",
    "Birch",
    "Cedar",
    "Elder",
    "Fir",
    "Hazel",
    "Holly",
    "Juniper",
    "Larch",
    "Linden",
    "Maple",
    "Oak",
    "Pine",
    "Rowan",
]
FIRST = ["Ada", "Bert", "Cleo", "Dora", "Emil", "Fay", "Gus", "Hedi", "Ivo", "Jule"]
TOWNS = ["Amberg", "Birkau", "Dorn", "Eschau", "Forst", "Grünau", "Hain"]
KINDS = ["top-bar", "long", "stack", "straw"]
PLANTS = ["lime", "clover", "rape", "heather", "acacia"]
DEPTHS = ("full", "full", "full", "full", "lookups", "flat")


def rough_case(seed: int) -> tuple[dict[str, Rows], str]:
    """Files by name, each with its header, and how deep the tables shall go."""
    rng = random.Random(seed)
    keepers = _keepers(rng)
    hives = _hives(rng, keepers)
    files = {"visits": _visits(rng, keepers, hives)}
    if rng.random() < 0.4:
        header = ["keeper no", "keeper name", "keeper town"]
        records = [r[:3] for r in keepers]
        if rng.random() < 0.3:
            header.append("mentor no")
            for record in records:
                record.append(rng.choice(keepers)[0] if rng.random() < 0.6 else "")
        files["keepers"] = _register(rng, header, records)
    if rng.random() < 0.3:
        rows = [[keepers[k][0], n, kind, since] for (k, n), (kind, since) in hives.items()]
        files["hives"] = _register(rng, ["keeper no", "hive no", "hive kind", "since"], rows)
    if rng.random() < 0.3:
        for rows in files.values():
            rows[0] = [str(h).replace(" no", " id") for h in rows[0]]
    order = list(files)
    rng.shuffle(order)
    return {n: files[n] for n in order}, rng.choice(DEPTHS)


def _keepers(rng: random.Random) -> Rows:
    county = {t: rng.choice(["North", "South", "East"]) for t in TOWNS}
    form = rng.choice(["{}", "K{:03}", "{:04}", "10{:02}"])
    unique = rng.random() < 0.5
    out: Rows = []
    for i in range(rng.randint(3, 30)):
        name = f"{rng.choice(FIRST)} {rng.choice(NAMES)}" + (f" {i}" if unique else "")
        town = rng.choice(TOWNS)
        out.append([form.format(i + 1), name, town, county[town], f"0{rng.randint(1000, 9999)}"])
    return out


def _hives(rng: random.Random, keepers: Rows) -> dict[tuple[int, object], tuple[object, object]]:
    within = rng.random() < 0.6
    out: dict[tuple[int, object], tuple[object, object]] = {}
    for k in range(len(keepers)):
        for n in range(1, rng.randint(1, 5) + 1):
            number = n if within else f"H{len(out) + 1:03}"
            out[k, number] = (rng.choice(KINDS), rng.randint(2030, 2040))
    return out


def _visits(
    rng: random.Random, keepers: Rows, hives: dict[tuple[int, object], tuple[object, object]]
) -> Rows:
    width = rng.randint(2, 5)
    header = ["keeper no", "keeper name", "keeper town", "keeper county", "keeper phone"][:width]
    roles = rng.random() < 0.4
    numbered, days = rng.random() < 0.3, rng.random() < 0.3
    slips, gaps = rng.choice([0, 0, 0.01, 0.03]), rng.choice([0, 0, 0.02, 0.1])
    again = rng.choice([0, 0, 0.03])
    shifts = rng.random() < 0.25
    guard = {(k, s): rng.choice(FIRST) for k in range(len(keepers)) for s in "ABC"}
    wide, listed = rng.choice([0, 0, 0, 3]), rng.random() < 0.2
    amounts = listed and rng.random() < 0.5
    weather = {d: rng.choice(["sun", "rain", "wind"]) for d in range(28)}
    head = (["visit no"] if numbered else []) + ["day"] + (["weather"] if days else [])
    head += [*header, "hive no", "hive kind", "hive since"]
    if roles:
        head += ["seller no", "seller name", "seller town"][: min(width, 3)]
    head += ["shift", "guard"] if shifts else []
    head += [f"frames {i + 1}" for i in range(wide)] + (["plants"] if listed else [])
    rows: Rows = [[*head, "kg"]]
    places = list(hives)
    for i in range(rng.randint(15, 400)):
        k, n = rng.choice(places)
        day = rng.randrange(28)
        row: list[object] = ([5000 + i] if numbered else []) + [f"2040-03-{day + 1:02}"]
        row += [weather[day]] if days else []
        start = len(row)
        row += [*keepers[k][:width], n, *hives[k, n]]
        if roles:
            row += rng.choice(keepers)[: min(width, 3)]
        if shifts:
            shift = rng.choice("ABC")
            row += [shift, guard[k, shift]]
        row += [rng.randint(1, 9) if rng.random() < 0.8 else "" for _ in range(wide)]
        said = rng.sample(PLANTS, rng.randint(0, 3)) if listed else []
        said = [f"{rng.randint(1, 9)}x {plant}" for plant in said] if amounts else said
        row += ["; ".join(said)] if listed else []
        row.append(rng.randint(1, 99))
        if rng.random() < gaps:
            chosen = rng.choice(["keeper", "hive", "one", "one"])
            at = range(start, start + width) if chosen == "keeper" else range(0)
            at = range(start + width, start + width + 3) if chosen == "hive" else at
            for c in at or [rng.randrange(start, len(row) - 1)]:
                row[c] = ""
        if rng.random() < slips:
            c = rng.randrange(start, len(row) - 1)
            row[c] = f"{row[c]}x" if row[c] != "" else ""
        rows.append(row)
        if rng.random() < again:
            rows.append(row)
    return rows


def _register(rng: random.Random, header: list[str], records: Rows) -> Rows:
    """A list of the records: some are not in it, some twice, some say something else."""
    absent, twice, other = (rng.choice([0, 0, 0.05]) for _ in range(3))
    rows: Rows = [list(header)]
    for record in records:
        row = record[: len(header)]
        if rng.random() < other:
            row = [*row[:-1], f"{row[-1]}y"]
        if rng.random() >= absent:
            rows.append(row)
        if rng.random() < twice:
            rows.append(row)
    return rows
