"""Dates with the names of months in the languages of Europe."""

from __future__ import annotations

import csv
import sqlite3
from pathlib import Path

import pytest

from conftest import Runner

DATES = {
    "de": ["3. März 2040", "14. Oktober 2040", "1. Januar 2041"],
    "de, capitals": ["3. MÄRZ 2040", "14. OKTOBER 2040", "1. JANUAR 2041"],
    "de, spreadsheet": ["03-Mrz-2040", "14-Okt-2040", "01-Jan-2041"],
    "de, points": ["3. März 2040", "14. Okt. 2040", "1. Jan. 2041"],
    "fr": ["3 mars 2040", "14 octobre 2040", "1 janvier 2041"],
    "fr, short": ["3 mars 2040", "14 oct. 2040", "1 janv. 2041"],
    "es": ["3 de marzo de 2040", "14 de octubre de 2040", "1 de enero de 2041"],
    "pt": ["3 de março de 2040", "14 de outubro de 2040", "1 de janeiro de 2041"],
    "it": ["3 marzo 2040", "14 ottobre 2040", "1 gennaio 2041"],
    "nl": ["3 maart 2040", "14 oktober 2040", "1 januari 2041"],
    "nl, short": ["03-mrt-2040", "14-okt-2040", "01-jan-2041"],
    "da": ["3. marts 2040", "14. oktober 2040", "1. januar 2041"],
    "sv": ["3 mars 2040", "14 oktober 2040", "1 januari 2041"],
    "nb": ["3. mars 2040", "14. oktober 2040", "1. januar 2041"],
    "fi": ["3. maaliskuuta 2040", "14. lokakuuta 2040", "1. tammikuuta 2041"],
    "pl": ["3 marca 2040", "14 października 2040", "1 stycznia 2041"],
    "cs": ["3. března 2040", "14. října 2040", "1. ledna 2041"],
    "sk": ["3. marca 2040", "14. októbra 2040", "1. januára 2041"],
    "sl": ["3. marec 2040", "14. oktober 2040", "1. januar 2041"],
    "hr": ["3. ožujka 2040.", "14. listopada 2040.", "1. siječnja 2041."],
    "hu": ["2040. március 3.", "2040. október 14.", "2041. január 1."],
    "ro": ["3 martie 2040", "14 octombrie 2040", "1 ianuarie 2041"],
    "bg": ["3 март 2040", "14 октомври 2040", "1 януари 2041"],
    "ru": ["3 марта 2040", "14 октября 2040", "1 января 2041"],
    "uk": ["3 березня 2040", "14 жовтня 2040", "1 січня 2041"],
    "el": ["3 Μαρτίου 2040", "14 Οκτωβρίου 2040", "1 Ιανουαρίου 2041"],
    "tr": ["3 Mart 2040", "14 Ekim 2040", "1 Ocak 2041"],
    "et": ["3. märts 2040", "14. oktoober 2040", "1. jaanuar 2041"],
    "lt, whole": ["2040 kovo 3", "2040 spalio 14", "2041 sausio 1"],
    "is": ["3. mars 2040", "14. október 2040", "1. janúar 2041"],
    "ca": ["3 març 2040", "14 octubre 2040", "1 gener 2041"],
    "en, otherwise": ["3. March 2040", "14. October 2040", "1. January 2041"],
    "en, small": ["3 march 2040", "14 october 2040", "1 january 2041"],
    "en, months first": ["MARCH 3, 2040", "OCTOBER 14, 2040", "JANUARY 1, 2041"],
}
MEANT = ["2040-03-03", "2040-10-14", "2041-01-01"]


def write(path: Path, dates: list[str]) -> None:
    with path.open("w", encoding="utf-8", newline="") as file:
        rows = [("hive", "day"), *((f"Hive {n}", date) for n, date in enumerate(dates))]
        csv.writer(file, lineterminator="\n").writerows(rows)


@pytest.mark.parametrize("case", DATES)
def test_dates_are_recognised_kept_and_given_back(
    kerfmark: Runner, tmp_path: Path, case: str
) -> None:
    write(tmp_path / "a.csv", DATES[case])
    kerfmark("cut", "a.csv", "--into", "a.db")
    with sqlite3.connect(tmp_path / "a.db") as db:
        days = [day for (day,) in db.execute("SELECT day FROM a ORDER BY a_id")]
    assert days == MEANT
    assert kerfmark("prove", "a.db").code == 0
    kerfmark("export", "a.db", "--flat", "a", "-o", "b.csv")
    assert (tmp_path / "b.csv").read_text("utf-8") == (tmp_path / "a.csv").read_text("utf-8")


def test_times_may_follow(kerfmark: Runner, tmp_path: Path) -> None:
    write(tmp_path / "a.csv", [f"{d} 07:05" for d in DATES["de"]])
    [source] = kerfmark("measure", "a.csv", "--json").json["sources"]
    assert source["columns"][1]["type"] == "timestamp D. Month YYYY hh:mm [de]"


def test_a_word_that_is_another_month_elsewhere_decides_nothing(
    kerfmark: Runner, tmp_path: Path
) -> None:
    write(tmp_path / "a.csv", ["3 listopada 2040", "14 listopada 2040"])  # October, or November
    [source] = kerfmark("measure", "a.csv", "--json").json["sources"]
    assert source["columns"][1]["type"] == "text"
    told = " ".join(f["what"] for f in source["findings"])
    assert "[pl]" in told and "[hr]" in told


def test_a_month_that_is_none_stays_text_and_a_language_that_is_none_is_refused(
    kerfmark: Runner, tmp_path: Path
) -> None:
    write(tmp_path / "a.csv", ["3. Brachet 2040", "31. Februar 2040"])
    [source] = kerfmark("measure", "a.csv", "--json").json["sources"]
    assert source["columns"][1]["type"] == "text"
    kerfmark("mark", "a.csv", "-o", "a.toml")
    layout = (tmp_path / "a.toml").read_text("utf-8")
    said = '{header = "day", type = "date D. Month YYYY [qq]"}'
    assert layout.count('day = "day"') == 1
    (tmp_path / "a.toml").write_text(layout.replace('day = "day"', f"day = {said}"), "utf-8")
    assert 'the months of "qq" are not known' in kerfmark("check", "a.toml", code=2).err
