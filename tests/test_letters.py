"""Names come out of a file as they were written, whatever the encoding; and where that cannot be
known, it is said."""

from __future__ import annotations

import contextlib
import re
import sqlite3
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Runner
from kerfmark.read.letters import guess_code_page

Write = Callable[..., Path]

WORDS = {
    "French": "Clémence Garçon;Gaëlle Thévenot;Rue de l'Église;crème brûlée;Marché aux légumes",
    "German": "Gänseblümchen;Rührei;Imkerei Süßmilch;Hübner;Kürbisöl;Wiesenstraße",
    "Spanish": "Muñoz;Peñalver;Quiñones;Avilés;Mérida;Colmenar Viejo;Piñón",
    "Portuguese": "São Mateus;Portimão;Câmara;Feijó;Olhão;Marçal",
    "Italian": "Noè;Università di Forlì;già;caffè",
    "Swedish": "Åsa;Sjögren;Häggblom;Ängelholm;Åkesson",
    "Danish": "Grøn;Kjærsgård;Ballerup Bær;Ålborg",
    "Finnish": "Hänninen;Kärkkäinen;Riihimäki;Töölö;Lämsä",
    "Icelandic": "Þorbjörg;Eiríkur;Akureyri;Garðabær;Æsa",
    "Estonian": "Kärdla;Õismäe;Tõrva;Mõisaküla;Jäär",
    "Polish": "Błażej;Grażyna;Chełm;Olsztyn Główny;Kępno;Jarosław Pięta",
    "Czech": "Břeclav;Kroměříž;Vojtěch Šťastný;Hradec Králové",
    "Slovak": "Bardejov;Levoča;Ľubica Krajčírová;Šaľa",
    "Hungarian": "Gyöngyös;Kőrösi;Szőlősi Béla;Tűzoltó utca",
    "Croatian": "Đuro Špoljarić;Međimurje;Živković;Šoštarić",
    "Slovene": "Ptuj;Jurčič;Žužemberk;Šmarje",
    "Romanian": "Bacău;Brăila;Călăraşi;Ţăndărei;Pârvu",
    "Turkish": "Kağıthane;Işıl Çakır;Düzce;Gümüşhane;Uşak",
    "Lithuanian": "Gražina;Utena;Rokiškis;Šilutė;Kuršėnai;Vilkaviškis",
    "Latvian": "Valmiera;Ventspils;Ķegums;Ērgļi;Smiltenes ūdens;Sējējs",
    "Russian": "Пасека Липовая;Воронеж;Зоя Беляева;мёд гречишный",
    "Ukrainian": "Пасіка Липова;Житомир;Любов Гринько;мед гречаний;Їжакевич",
    "Bulgarian": "Пчелин Липа;Хасково;Златка;мед от акация",
    "Greek": "Μελισσοκομία;Κέρκυρα;Ευαγγελία;Θυμαρίσιο μέλι",
    "Hebrew": "דבורה;כפר סבא;דבש הדרים",
    "Arabic": "منحل;طرابلس;عسل السدر;سعاد",
    "Thai": "น้ำผึ้ง;เชียงราย;รังผึ้ง",
    "Japanese": "養蜂場;蜂蜜;静岡県;あかね;みつばち;ハチ",
    "Chinese": "养蜂场;蜂蜜;杭州;质量;我们的花园;这是新的",
    "Chinese (traditional)": "養蜂場;蜂蜜;桃園;品質;我們的花園;這是新的",
    "Korean": "양봉장;꿀;강릉;품질",
}
"""Words about beekeeping, and places, that are not among those from which the letters are
counted."""
PAGES = {
    "cp1252": "French German Spanish Portuguese Italian Swedish Danish Finnish Icelandic Estonian",
    "cp850": "French German Spanish Portuguese Swedish Danish",
    "mac-roman": "French German",
    "iso8859-15": "French Finnish",
    "cp1250": "Polish Czech Slovak Hungarian Croatian Slovene Romanian",
    "iso8859-2": "Polish Czech Hungarian",
    "cp852": "Polish Czech",
    "cp1251": "Russian Ukrainian Bulgarian",
    "koi8-r": "Russian",
    "koi8-u": "Ukrainian",
    "cp866": "Russian",
    "cp1253": "Greek",
    "iso8859-7": "Greek",
    "cp1254": "Turkish",
    "cp1255": "Hebrew",
    "cp1256": "Arabic",
    "cp1257": "Lithuanian Latvian Estonian",
    "cp874": "Thai",
    "cp932": "Japanese",
    "euc-jp": "Japanese",
    "iso2022-jp": "Japanese",
    "gb18030": "Chinese",
    "big5": "Chinese (traditional)",
    "cp949": "Korean",
    "utf-8": "French Polish Russian Greek Japanese",
    "utf-16": "German Czech Korean",
}
CASES = [
    (page, language)
    for page, some in PAGES.items()
    for language in WORDS
    if language in some.replace("Chinese (traditional)", "traditional").split()
    or (language == "Chinese (traditional)" and page == "big5")
]


@pytest.mark.parametrize(("page", "language"), CASES)
def test_short_and_long_files_of_a_language_are_read_as_written(
    write: Write, kerfmark: Runner, page: str, language: str
) -> None:
    words = WORDS[language].split(";")
    short = "".join(f"{n};{word}\n" for n, word in enumerate(words))
    long = "".join(f"{n};{words[n * n % len(words)]}\n" for n in range(3000)) + short
    for name, text in (("short.csv", short), ("long.csv", long)):
        write(name, f"no;word\n{text}".encode(page))
        found = kerfmark("measure", name, "--rows", len(words), "--json").json["sources"][0]
        if name == "short.csv":
            assert [word for _, word in found["first_rows"]] == words
        else:
            column = found["columns"][1]
            assert column["distinct"] == len(words)
            assert {column["smallest"], column["largest"]} <= set(words)
        assert not [f for f in found["findings"] if "encoding" in f["what"]]


def test_the_words_are_not_those_by_which_letters_were_counted() -> None:
    listed = (Path(__file__).parent.parent / "tools/letter_words.txt").read_text(encoding="utf-8")
    own = {word for word in listed.lower().split() if not word.isascii()}
    assert len(own) > 1000
    words = {w for some in WORDS.values() for w in re.findall(r"[^\W\d_]+", some.lower())}
    assert not own & words


ALONE = [
    (page, language)
    for page, language in CASES
    if page not in ("utf-8", "utf-16", "iso2022-jp")  # told by other means
    and not language.startswith(("Chinese", "Japanese"))  # two letters of thousands tell nothing
]


@pytest.mark.parametrize(("page", "language"), ALONE)
def test_a_single_word_is_right_or_said_to_be_doubtful(page: str, language: str) -> None:
    for word in WORDS[language].split(";"):
        if not word.isascii():
            guess = guess_code_page([word.encode(page)])
            assert word.encode(page).decode(guess.encoding) == word or guess.others, word


def test_what_is_doubtful_is_shown_side_by_side(write: Write, kerfmark: Runner) -> None:
    write("keepers.csv", "no;name\n1;Anna\n2;Břeclav\n".encode("cp1250"))
    told = kerfmark("measure", "keepers.csv").out
    assert 'read as "Bøeclav" (cp1252), could be "Břeclav" (cp1250) (row 3)' in told
    assert "--encoding cp1252, or --encoding cp1250" in told
    said = kerfmark("cut", "keepers.csv", "--into", "a.db").out
    assert "could be" in said and "--encoding cp1250" in said
    right = kerfmark("measure", "keepers.csv", "--encoding", "cp1250").out
    assert "Břeclav" in right and "could be" not in right


def test_a_few_broken_bytes_leave_the_rest_utf_8_and_can_be_read_as_they_are(
    write: Write, kerfmark: Runner
) -> None:
    lines = ["no;name", *(f"{n};Zürich" for n in range(50)), "50;Genève"]
    write("towns.csv", "\n".join(lines).encode() + "\n51;Bülach\n52;Küsnacht\n".encode("cp1252"))
    told = kerfmark("cut", "towns.csv", "--into", "a.db", code=2).err
    assert 'towns.csv, row 53: "B\\xfclach" is not UTF-8 text\n  row 54: "K\\xfcsnacht"' in told
    assert '--encoding utf-8+cp1252 reads it, if "Bülach" is right' in told
    shown = kerfmark("measure", "towns.csv").out.split("findings")[1]
    ways = ["--encoding utf-8+cp1252 reads it", "save the file as UTF-8"]  # below each other
    assert [line.index(w) for w in ways for line in shown.splitlines() if w in line] == [11, 11]
    found = kerfmark("measure", "towns.csv", "--json").json["sources"][0]
    assert found["how"].endswith("utf-8") and found["findings"][0]["rows"] == [53, 54]
    kerfmark("cut", "towns.csv", "--into", "a.db", "--encoding", "utf-8+cp1252")
    names = kerfmark("show", "a.db", "town", "--rows", "100").out
    assert "Bülach" in names and "Küsnacht" in names and "Genève" in names and "Zürich" in names
    assert "proven" in kerfmark("prove", "a.db").out


@pytest.mark.parametrize("other", ["utf-8+nothing", "nothing"])
def test_an_encoding_that_does_not_exist_is_told(
    write: Write, kerfmark: Runner, other: str
) -> None:
    write("towns.csv", "no;name\n1;x\n")
    told = kerfmark("measure", "towns.csv", "--encoding", other, code=2).err
    assert f'there is no encoding called "{other}"' in told


def test_the_first_letters_beyond_ascii_may_come_late(write: Write, kerfmark: Runner) -> None:
    plain = b"no;name\n" + b"1;plain words\n" * 90_000
    write("late.csv", plain + "2;Żółć\n3;Grażyna\n4;Łąka\n".encode("cp1250"))
    found = kerfmark("measure", "late.csv", "--json").json["sources"][0]
    assert found["how"] == "semicolons, cp1250"
    assert found["columns"][1]["largest"] == "Żółć"


class TestLaterFiles:
    """The encoding of a source is remembered."""

    FIRST = "no;name\n1;Muñoz\n2;São Paulo\n3;Åsa\n"

    @pytest.fixture(autouse=True)
    def _first(self, write: Write, kerfmark: Runner) -> None:
        write("a1.csv", self.FIRST.encode("cp1252"))
        kerfmark("cut", "a1.csv", "--into", "a.db")
        self.write, self.kerfmark = write, kerfmark

    def names(self) -> list[str]:
        """The names in the database."""
        folder = self.write("x", "").parent
        with contextlib.closing(sqlite3.connect(folder / "a.db")) as found:
            return [name for (name,) in found.execute("SELECT name FROM a1 ORDER BY a1_id")]

    def test_letters_that_could_be_either_are_read_as_before_and_told(self) -> None:
        self.write("a2.csv", "no;name\n4;Břeclav\n".encode("cp1250"))
        told = self.kerfmark("add", "a2.csv", "--into", "a.db").err
        assert 'a2.csv: the encoding is not certain: read as "Bøeclav" (cp1252)' in told
        assert self.names()[-1] == "Bøeclav"

    def test_letters_of_another_page_are_refused_until_it_is_said(self) -> None:
        self.write("a2.csv", "no;name\n4;Łódź\n5;Żaneta Pięta\n".encode("cp1250"))
        told = self.kerfmark("add", "a2.csv", "--into", "a.db", code=2).err
        assert 'in cp1250 it reads "Łódź", "Żaneta Pięta"; in cp1252 (as the files before)' in told
        assert "--encoding cp1250, or --encoding cp1252" in told
        self.kerfmark("add", "a2.csv", "--into", "a.db", "--encoding", "cp1250")
        assert self.names() == ["Muñoz", "São Paulo", "Åsa", "Łódź", "Żaneta Pięta"]
        assert "proven" in self.kerfmark("prove", "a.db").out

    def test_a_file_that_is_surely_otherwise_is_read_so(self) -> None:
        self.write("a2.csv", "no;name\n4;Peña\n")
        told = self.kerfmark("add", "a2.csv", "--into", "a.db").out
        assert "it is read as utf-8, files before it as cp1252" in told
        assert self.names()[-1] == "Peña"

    def test_a_plain_file_reads_the_same_in_any_encoding_and_is_not_told(self) -> None:
        self.write("a2.csv", "no;name\n4;Weir\n")
        assert "read as" not in self.kerfmark("add", "a2.csv", "--into", "a.db").out

    def test_letters_that_are_no_text_in_the_page_before_are_told(
        self, write: Write, kerfmark: Runner
    ) -> None:
        write("b1.csv", "no;name;by\n1;Zürich;x\n")
        kerfmark("cut", "b1.csv", "--into", "b.db")
        write("b2.csv", "no;name;by\n2;Genève;Muñoz\n".encode("cp1252"))
        told = kerfmark("add", "b2.csv", "--into", "b.db").out
        assert "it is read as cp1252, files before it as utf-8" in told


def test_months_in_different_encodings_and_with_different_delimiters_are_one_source(
    write: Write, kerfmark: Runner
) -> None:
    write("visits-2041-01.csv", "no;name\n1;plain\n")
    write("visits-2041-02.csv", "no;name\n2;Muñoz\n".encode("cp1252"))
    write("visits-2041-03.csv", "no,name\n3,Zürich\n")
    kerfmark("cut", *(f"visits-2041-0{n}.csv" for n in (1, 2, 3)), "--into", "a.db")
    told = kerfmark("show", "a.db", "visit").out
    assert "Muñoz" in told and "Zürich" in told and "plain" in told
    assert "proven" in kerfmark("prove", "a.db").out
    again = kerfmark("cut", "a.layout.toml", "--into", "b.db")
    assert "1 table" in again.out and "Muñoz" in kerfmark("show", "b.db", "visit").out
