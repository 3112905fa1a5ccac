"""What goes wrong with servers is told in our words, nothing is half done, and running the command
again works."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import sys
import time
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from conftest import Runner, flat_visits
from engines import SERVERS, SERVERS_ONLY, Target
from private import free_port, mariadb, postgresql
from test_add_safe import LAYOUT, visits

Write = Callable[..., Path]


@pytest.fixture(scope="module")
def boss() -> Iterator[str]:
    """A PostgreSQL server of our own, as its superuser sees it."""
    import psycopg

    with postgresql() as port:
        url = f"postgresql://boss@127.0.0.1:{port}/postgres"
        with psycopg.connect(url, autocommit=True) as connection:
            for statement in (
                "CREATE ROLE secret LOGIN PASSWORD 'pass word/1'",
                "CREATE ROLE outsider LOGIN",
                "CREATE ROLE tls LOGIN",
                "CREATE ROLE guest LOGIN",
                "CREATE ROLE crowd LOGIN CONNECTION LIMIT 0",
                "CREATE DATABASE club",
                "GRANT ALL ON DATABASE club TO secret",
                "REVOKE ALL ON SCHEMA public FROM PUBLIC",
            ):
                connection.execute(statement)
        yield url


def cut(kerfmark: Runner, url: str, *more: str, code: int = 2) -> str:
    """What a cut that fails says."""
    told = kerfmark("cut", "visits.csv", "--into", url, *more, code=code).err
    assert "Traceback" not in told and "next: " in told
    return told


def test_how_postgresql_cannot_be_reached(boss: str, visits: Path, kerfmark: Runner) -> None:
    assert "does not answer" in cut(kerfmark, f"postgresql://boss@127.0.0.1:{free_port()}/postgres")
    assert "does not answer" in cut(kerfmark, "postgresql://boss@no-such-host.invalid/postgres")
    assert "no such database" in cut(kerfmark, boss.replace("/postgres", "/nowhere"))
    told = cut(kerfmark, boss.replace("boss@", "secret:wrong-one@"))
    assert (
        "does not accept the user or the password" in told
        and "wrong-one" not in told
        and "KERFMARK_PASSWORD" in told
    )
    assert "does not admit this computer" in cut(kerfmark, boss.replace("boss@", "outsider@"))
    assert "do not agree about an encrypted connection" in cut(kerfmark, boss + "?sslmode=require")
    assert "does not admit" in cut(kerfmark, boss.replace("boss@", "tls@"))
    assert "no connection left" in cut(kerfmark, boss.replace("boss@", "crowd@"))
    assert "has no schema to build in" in cut(kerfmark, boss.replace("boss@", "guest@"))
    assert "may not do this" in cut(kerfmark, boss.replace("boss@", "guest@"), "--schema", "mine")
    assert "may not do this" in cut(kerfmark, boss.replace("boss@", "guest@"), "--schema", "public")
    assert "no database engine" in cut(kerfmark, "dbase://here/x")
    assert "does not name a database" in cut(kerfmark, boss.rsplit("/", 1)[0])


def test_how_mariadb_cannot_be_reached(visits: Path, kerfmark: Runner, tmp_path: Path) -> None:
    root = SERVERS["MariaDB"]
    assert "does not answer" in cut(kerfmark, f"mysql://root@127.0.0.1:{free_port()}/test")
    assert "no such database" in cut(kerfmark, root + "nowhere")
    told = cut(kerfmark, root.replace("root@", "nobody:wrong-one@") + "test")
    assert "does not accept the user or the password" in told and "wrong-one" not in told
    with mariadb(
        "--max-connections=10",
        "--require-secure-transport=ON",
        "--lower-case-table-names=1",
        "--sql-mode=",
        "--character-set-server=latin1",
        "--default-time-zone=+05:45",
        encrypted=True,
    ) as (port, sock):
        import pymysql

        there = pymysql.connect(unix_socket=sock, user="root", autocommit=True)
        for statement in (
            "CREATE DATABASE club",
            "CREATE USER guest@localhost",
            "CREATE USER anyone@localhost",
            "CREATE USER few@localhost WITH MAX_USER_CONNECTIONS 1",
            "GRANT SELECT ON club.* TO guest@localhost",
            "GRANT ALL ON club.* TO few@localhost",
            "GRANT ALL ON enc.* TO anyone@localhost",
            "CREATE DATABASE enc",
        ):
            there.cursor().execute(statement)
        kerfmark(
            "cut", "visits.csv", "--into", f"mysql://anyone@127.0.0.1:{port}/enc"
        )  # encrypted, as is demanded
        by_socket = f"mysql://root@localhost/club?unix_socket={sock}"
        assert "may not do this" in cut(kerfmark, by_socket.replace("root@", "guest@"))
        held = pymysql.connect(unix_socket=sock, user="few")
        assert "no connection left" in cut(kerfmark, by_socket.replace("root@", "few@"))
        held.close()
        # no strict mode, names in small letters, Latin-1, another time zone: the same tables come
        # out
        (tmp_path / "odd.csv").write_text(
            "No,Keeper,Seen\n1,Köstlin 蜂,2025-01-02 03:04:05\n2,KÖSTLIN 蜂,2025-01-02 03:04:06\n"
            "3,Köstlin 蜂 ,2025-07-02 03:04:05\n",
            "utf-8",
        )
        (tmp_path / "l.toml").write_text(
            'kerfmark = 1\n[sources.odd]\nfile = "odd.csv"\n[tables.Visit]\neach_row = true\n'
            'known_by = ["No"]\nlinks = {Keeper_id = "Keeper"}\ncolumns = {No = "No", Seen = '
            '{header = "Seen", type = "timestamp YYYY-MM-DD hh:mm:ss"}}\n[tables.Keeper]\n'
            'known_by = ["Keeper"]\ncolumns = ["Keeper"]\n'
        )
        kerfmark("cut", "l.toml", "--into", by_socket)
        assert kerfmark("prove", by_socket, "--json").json["holds"]
        (tmp_path / "more.csv").write_text(
            "No,Keeper,Seen\n4,KÖSTLIN 蜂,2025-01-02 03:04:05\n", "utf-8"
        )
        assert (
            kerfmark("add", "more.csv", "--into", by_socket, "--json").json["tables"][1]["known"]
            == 1
        )
        assert kerfmark("prove", by_socket, "--json").json["holds"]
        kerfmark("undo", by_socket)
        kerfmark("cut", "l.toml", "--into", by_socket, "--replace")
        there.close()


def test_an_unusual_postgresql_database_gets_the_same_tables(
    boss: str, write: Write, kerfmark: Runner
) -> None:
    import psycopg

    with psycopg.connect(boss, autocommit=True) as connection:
        connection.execute(
            "CREATE DATABASE odd TEMPLATE template0 ENCODING 'LATIN1' LC_COLLATE 'C' LC_CTYPE 'C'"
        )
        for setting in (
            "timezone TO 'Asia/Kathmandu'",
            "datestyle TO 'German'",
            "standard_conforming_strings TO off",
            "client_encoding TO 'LATIN1'",
            "extra_float_digits TO -3",
            "default_transaction_isolation TO 'serializable'",
        ):
            connection.execute(f"ALTER DATABASE odd SET {setting}")
    url = boss.replace("/postgres", "/odd")
    write(
        "odd.csv",
        "no,keeper,seen,share\n1,K\u00f6stlin \\ 'x',2025-01-02,0.1\n2,B,2025-12-31,-1e-7\n",
    )
    write(
        "l.toml",
        'kerfmark = 1\n[sources.odd]\nfile = "odd.csv"\n[tables.visit]\neach_row = true\nknown_by '
        '= ["no"]\n'
        'links = ["keeper"]\ncolumns = {no = "no", seen = {header = "seen", type = "date '
        'YYYY-MM-DD"}, '
        'share = {header = "share", type = "real"}}\n[tables.keeper]\nknown_by = '
        '["keeper"]\ncolumns = ["keeper"]\n',
    )
    kerfmark("cut", "l.toml", "--into", url, "--schema", "s")
    write("more.csv", "no,keeper,seen,share\n3,B,2025-01-03,3.5\n")
    kerfmark("add", "more.csv", "--into", url, "--schema", "s")
    assert kerfmark("prove", url, "--schema", "s", "--json").json["holds"]
    write("more.csv", "no,keeper,seen,share\n4,\u8702,2025-01-03,3.5\n")
    told = kerfmark("add", "more.csv", "--into", url, "--schema", "s", code=1).err
    assert "the database refuses a row" in told and "LATIN1" in told


def cut_anew(
    folder: Path, env: dict[str, str], where: str, *more: str
) -> subprocess.CompletedProcess[str]:
    """A cut in a process of its own, with an environment of its own."""
    command = [sys.executable, "-m", "kerfmark", "cut", "visits.csv", "--into", where]
    return subprocess.run(
        [*command, *more, "--replace"],
        cwd=folder,
        env=env,
        capture_output=True,
        text=True,
        check=False,
    )


def test_the_password_comes_from_where_it_is_usual_and_is_never_shown(
    boss: str, visits: Path, tmp_path: Path
) -> None:
    url = boss.replace("boss@", "secret@").replace("/postgres", "/club")
    plain = {k: v for k, v in os.environ.items() if not k.startswith(("KERFMARK", "PG"))} | {
        "NO_COLOR": "1"
    }
    host, port = url.split("@")[1].split("/")[0].split(":")
    (tmp_path / "pass").write_text(f"{host}:{port}:club:secret:pass word/1\n")
    (tmp_path / "pass").chmod(0o600)
    ways: list[tuple[str, dict[str, str]]] = [
        (url, {"KERFMARK_PASSWORD": "pass word/1"}),
        (url, {"PGPASSWORD": "pass word/1"}),
        (url, {"PGPASSFILE": str(tmp_path / "pass")}),
        (url.replace("secret@", "secret:pass%20word%2F1@"), {}),
    ]
    for where, more in ways:
        done = cut_anew(tmp_path, plain | more, where, "--schema", "s")
        assert done.returncode == 0, done.stderr
        shown = done.stdout + done.stderr + (tmp_path / "s.layout.toml").read_text()
        assert "pass word" not in shown and "pass%20word" not in shown
    import psycopg

    with psycopg.connect(boss.replace("/postgres", "/club")) as connection:
        for (table,) in connection.execute(
            "SELECT tablename FROM pg_tables WHERE schemaname = 's' AND tablename LIKE 'kerfmark%'"
        ):
            assert "pass word" not in str(connection.execute(f"SELECT * FROM s.{table}").fetchall())


@pytest.mark.parametrize("db", ["MariaDB"], indirect=True)
def test_mariadb_s_password_comes_from_where_it_is_usual(
    db: Target, visits: Path, tmp_path: Path
) -> None:
    name = db.url.rsplit("/", 1)[1]
    user = f"u{name[3:]}"
    db.do(
        f"CREATE USER {user}@'127.0.0.1' IDENTIFIED BY 'pass word/1'",
        f"GRANT ALL ON {name}.* TO {user}@'127.0.0.1'",
    )
    try:
        plain = {
            k: v for k, v in os.environ.items() if k != "MYSQL_PWD" and not k.startswith("KERFMARK")
        } | {"NO_COLOR": "1"}
        (tmp_path / ".my.cnf").write_text("[client]\npassword='pass word/1'\n")
        for more in ({"MYSQL_PWD": "pass word/1"}, {"HOME": str(tmp_path)}):
            where = f"mysql://{user}@127.0.0.1/{name}"
            done = cut_anew(tmp_path, plain | more, where)
            assert done.returncode == 0 and "pass word" not in done.stdout + done.stderr, (
                done.stderr
            )
    finally:
        db.do(f"DROP USER {user}@'127.0.0.1'")


def test_a_password_is_asked_for_on_a_terminal(boss: str, visits: Path, tmp_path: Path) -> None:
    import pty

    url = boss.replace("boss@", "secret@").replace("/postgres", "/club")
    env = {k: v for k, v in os.environ.items() if not k.startswith(("KERFMARK", "PG"))} | {
        "NO_COLOR": "1"
    }
    process, terminal = pty.fork()
    if process == 0:
        os.chdir(tmp_path)
        os.execve(
            sys.executable,
            [
                sys.executable,
                "-m",
                "kerfmark",
                "cut",
                "visits.csv",
                "--into",
                url,
                "--schema",
                "asked",
            ],
            env,
        )
    said = b""
    try:
        while b"password for" not in said:
            said += os.read(terminal, 1000)
        os.write(terminal, b"pass word/1\n")
        while piece := os.read(terminal, 1000):
            said += piece
    except OSError:  # the program has ended
        pass
    _, status = os.waitpid(process, 0)
    assert os.waitstatus_to_exitcode(status) == 0 and b"built" in said and b"pass word" not in said


def slow(db: Target) -> None:
    """Makes each new visit take a while."""
    db.do(
        *{
            "PostgreSQL": [
                "CREATE FUNCTION nap() RETURNS trigger LANGUAGE plpgsql AS "
                "$$ BEGIN PERFORM pg_sleep(.005); RETURN NEW; END $$",
                "CREATE TRIGGER nap BEFORE INSERT ON visit FOR EACH ROW EXECUTE FUNCTION nap()",
            ],
            "MariaDB": ["CREATE TRIGGER nap BEFORE INSERT ON visit FOR EACH ROW DO SLEEP(.005)"],
        }[db.engine]
    )


def backends(db: Target) -> list[int]:
    """The connections of Kerfmark that are loading rows."""
    name = db.url.rsplit("/", 1)[-1].rsplit("=", 1)[-1]
    return list(
        db.ask(
            {
                "PostgreSQL": "SELECT pid FROM pg_locks JOIN pg_class ON pg_class.oid = relation "
                f"JOIN pg_namespace n ON n.oid = relnamespace WHERE nspname = '{name}' AND relname "
                "= 'visit' "
                "AND mode = 'RowExclusiveLock'",
                "MariaDB": f"SELECT id FROM information_schema.processlist WHERE db = '{name}' AND "
                "(info LIKE 'LOAD DATA%visit%' OR info LIKE 'DO SLEEP%')",
            }[db.engine]
        )
    )


def break_off(db: Target, backend: int) -> None:
    """Ends a connection from the other side."""
    db.do(
        f"DO $$ BEGIN PERFORM pg_terminate_backend({backend}); END $$"
        if db.engine == "PostgreSQL"
        else f"KILL {backend}"
    )


def started(db: Target, folder: Path, *args: str) -> subprocess.Popen[str]:
    """A run of the program that goes on by itself, once it is loading rows."""
    process = subprocess.Popen(
        [sys.executable, "-m", "kerfmark", *args],
        cwd=folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
        env=os.environ | {"NO_COLOR": "1"},
    )
    until = time.monotonic() + 60
    while not backends(db):
        assert process.poll() is None and time.monotonic() < until, process.communicate()
        time.sleep(0.02)
    return process


@SERVERS_ONLY
@pytest.mark.parametrize("end", ["connection", "program"])
def test_a_load_that_is_cut_off_leaves_nothing(
    db: Target, write: Write, kerfmark: Runner, tmp_path: Path, end: str
) -> None:
    write("visits.csv", visits_of(0, 300))
    write("more.csv", visits_of(1000, 800))
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", db)
    slow(db)
    before = db.dump()
    process = started(db, tmp_path, "add", "more.csv", "--into", str(db))
    if end == "program":
        process.send_signal(signal.SIGKILL)
        process.wait()
    else:
        [backend] = backends(db)
        break_off(db, backend)
        _, err = process.communicate(timeout=60)
        assert (
            process.returncode == 2
            and "broke off; nothing was written" in err
            and "run the command again" in err
        )
    until = time.monotonic() + 30
    while backends(db):
        assert time.monotonic() < until
        time.sleep(0.1)
    assert db.dump() == before
    db.do("DROP TRIGGER nap ON visit" if db.engine == "PostgreSQL" else "DROP TRIGGER nap")
    kerfmark("add", "more.csv", "--into", db)
    assert (
        db.ask("SELECT count(*) FROM visit") == [1100]
        and kerfmark("prove", db, "--json").json["holds"]
    )


def visits_of(first: int, rows: int) -> str:
    return visits(first, rows, 90)


@SERVERS_ONLY
def test_a_cut_that_is_cut_off_leaves_nothing_and_can_be_run_again(
    db: Target, write: Write, kerfmark: Runner, tmp_path: Path
) -> None:
    write("visits.csv", visits_of(0, 200_000))
    write("l.toml", LAYOUT)
    name = db.url.rsplit("/", 1)[-1].rsplit("=", 1)[-1]
    for n in range(3):
        process = subprocess.Popen(
            [sys.executable, "-m", "kerfmark", "cut", "l.toml", "--into", str(db)],
            cwd=tmp_path,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
            text=True,
            env=os.environ | {"PGAPPNAME": name},
        )
        ask = {
            "PostgreSQL": f"SELECT pid FROM pg_stat_activity WHERE application_name = '{name}' AND query LIKE 'COPY \"visit\"%'",
            "MariaDB": f"SELECT id FROM information_schema.processlist WHERE db = '{name}' "
            "AND info LIKE 'LOAD DATA%kerfmark_part%'",
        }
        until = time.monotonic() + 60
        while not (found := db.ask(ask[db.engine])):
            assert process.poll() is None and time.monotonic() < until
            time.sleep(0.005)
        if n == 2:
            process.kill()
            process.wait()
        else:
            break_off(db, found[0])
            _, err = process.communicate(timeout=60)
            assert process.returncode == 2 and "nothing was written" in err, err
        if n < 2:
            assert db.tables() == []
    time.sleep(0.5)
    kerfmark("cut", "l.toml", "--into", db)
    assert (
        not [t for t in db.tables() if "part" in t]
        and kerfmark("prove", db, "--json").json["holds"]
    )


@SERVERS_ONLY
def test_a_load_that_another_one_is_in_the_way_of_is_made_again(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write("visits.csv", visits_of(0, 50))
    write("more.csv", visits_of(1000, 20))
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", db)
    db.do(
        *{
            "PostgreSQL": [  # a counter that no rollback takes back
                "CREATE SEQUENCE tries",
                "CREATE FUNCTION clash() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN "
                "IF nextval('tries') < 3 THEN RAISE EXCEPTION 'deadlock detected' USING ERRCODE = "
                "'40P01'; END IF; "
                "RETURN NULL; END $$",
                "CREATE TRIGGER clash AFTER INSERT ON visit FOR EACH STATEMENT EXECUTE FUNCTION "
                "clash()",
            ],
            "MariaDB": [
                "CREATE TABLE tries (n int) ENGINE Aria TRANSACTIONAL=0",
                "INSERT INTO tries VALUES (0)",
                "CREATE TRIGGER clash AFTER INSERT ON visit FOR EACH ROW BEGIN UPDATE tries SET n "
                "= n + 1; "
                "IF (SELECT n FROM tries) < 3 THEN SIGNAL SQLSTATE '40001' SET MYSQL_ERRNO = 1213, "
                "MESSAGE_TEXT = 'Deadlock found'; END IF; END",
            ],
        }[db.engine]
    )
    kerfmark("add", "more.csv", "--into", db)
    assert db.ask("SELECT count(*) FROM visit") == [70]
    db.do(
        "ALTER SEQUENCE tries RESTART MINVALUE -100 START -100"
        if db.engine == "PostgreSQL"
        else "UPDATE tries SET n = -100"
    )
    write("again.csv", visits_of(2000, 20))
    told = kerfmark("add", "again.csv", "--into", db, code=2).err
    assert "the database stopped this command" in told and db.ask("SELECT count(*) FROM visit") == [
        70
    ]


@SERVERS_ONLY
def test_locks_are_waited_for_and_told(
    db: Target, write: Write, kerfmark: Runner, monkeypatch: pytest.MonkeyPatch
) -> None:
    write("visits.csv", visits_of(0, 50))
    write("more.csv", visits_of(1000, 20))
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", db)
    import kerfmark as library

    for module in (
        "kerfmark.store.postgresql.connection",
        "kerfmark.store.mysql.connection",
        "kerfmark.store.mysql.pending",
    ):
        monkeypatch.setattr(f"{module}.PATIENCE", 1)
    monkeypatch.chdir(Path(str(write("x", ""))).parent)
    holder = db.connection_to()
    cursor = holder.cursor()
    cursor.execute(
        {
            "PostgreSQL": "LOCK TABLE kerfmark_loads IN EXCLUSIVE MODE",
            "MariaDB": "SELECT GET_LOCK(CONCAT('kerfmark.', LEFT(DATABASE(), 50)), 1)",
        }[db.engine]
    )
    with pytest.raises(library.TargetError, match="another program is writing"):
        library.add(["more.csv"], str(db))
    holder.close()
    assert library.add(["more.csv"], str(db)).load == 2


@pytest.mark.parametrize("db", ["MariaDB"], indirect=True)
def test_a_server_that_takes_no_files_gets_inserts(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    write("visits.csv", flat_visits())
    url = str(db)
    with mariadb("--local-infile=OFF") as (port, sock):
        import pymysql

        pymysql.connect(unix_socket=sock, user="root").cursor().execute("CREATE DATABASE club")
        url = f"mysql://root@localhost:{port}/club?unix_socket={sock}"
        assert "takes no files" in kerfmark("cut", "visits.csv", "--into", url).out
        write("more.csv", flat_visits(260).replace("\n1,", "\n1,", 1))
        assert "takes no files" in kerfmark("add", "more.csv", "--into", url, "--known", "keep").err
        assert kerfmark("prove", url, "--json").json["holds"]


@SERVERS_ONLY
def test_a_cut_anew_leaves_what_others_made(db: Target, write: Write, kerfmark: Runner) -> None:
    write("visits.csv", visits_of(0, 50))
    write("l.toml", LAYOUT)
    kerfmark("cut", "l.toml", "--into", db)
    db.do(
        "CREATE TABLE mine (hive_id integer NOT NULL, FOREIGN KEY (hive_id) REFERENCES hive "
        "(hive_id))"
    )
    assert "built tables there already" in kerfmark("cut", "l.toml", "--into", db, code=2).err
    if db.engine == "PostgreSQL":  # somebody's table needs ours: nothing is dropped behind its back
        before = db.dump()
        assert "mine" in kerfmark("cut", "l.toml", "--into", db, "--replace", code=2).err
        assert db.dump() == before
    db.do("DROP TABLE mine", "CREATE TABLE other (n integer)")
    write("visits.csv", visits_of(0, 20))
    kerfmark("cut", "l.toml", "--into", db, "--replace")
    assert (
        db.ask("SELECT count(*) FROM visit") == [20]
        and "other" in db.tables()
        and kerfmark("prove", db, "--json").json["holds"]
    )
    bad = (
        LAYOUT.replace("[tables.keeper]", "[tables.other]")
        .replace('"keeper"]\noptional', '"other"]\noptional')
        .replace('known_by = ["keeper"]', 'known_by = ["keeper"]')
    )
    write("bad.toml", bad)
    before = db.dump()
    told = kerfmark("cut", "bad.toml", "--into", db, "--replace", code=2).err
    assert '"other" exists already, and Kerfmark did not make it' in told and db.dump() == before


@pytest.mark.parametrize("mode", ["TRADITIONAL", "STRICT_ALL_TABLES"])
def test_a_strict_server_takes_everything(mode: str, visits: Path, kerfmark: Runner) -> None:
    with mariadb(f"--sql-mode={mode}") as (_, sock):
        import pymysql

        there = pymysql.connect(unix_socket=sock, user="root", autocommit=True)
        there.cursor().execute("CREATE DATABASE club")
        url = f"mysql://root@localhost/club?unix_socket={sock}"
        kerfmark("cut", "visits.csv", "--into", url)
        late = visits.read_text().splitlines()
        (visits.parent / "late.csv").write_text(f"{late[0]}\n9{late[1]}\n")
        kerfmark("add", "late.csv", "--into", url, "--known", "keep")
        kerfmark("prove", url)
        kerfmark("export", url, "-o", "out")
        kerfmark("undo", url)
        kerfmark("cut", "visits.csv", "--into", url, "--replace")
        kerfmark("drop", url, "--discard")


@SERVERS_ONLY
def test_a_password_may_have_any_letters(db: Target, visits: Path, tmp_path: Path) -> None:
    name, user = db.url.split("?schema=")[-1].rsplit("/", 1)[-1], f"u{os.getpid()}"
    word = "pä中 '\\"
    quoted = word.replace("\\", "\\\\").replace("'", "''")
    if db.engine == "MariaDB":
        db.do(
            f"CREATE USER {user}@'127.0.0.1' IDENTIFIED BY '{quoted}'",
            f"GRANT ALL ON {name}.* TO {user}@'127.0.0.1'",
        )
        url = f"mysql://{user}@127.0.0.1/{name}"
    else:  # trusted here: only that the driver takes it
        db.do(
            f"CREATE SCHEMA {name}",
            f"CREATE ROLE {user} LOGIN",
            f"GRANT ALL ON SCHEMA {name} TO {user}",
        )
        url = f"postgresql://{user}@127.0.0.1/test?schema={name}"
    try:
        plain = {k: v for k, v in os.environ.items() if not k.startswith("KERFMARK")}
        done = cut_anew(tmp_path, plain | {"KERFMARK_PASSWORD": word}, url)
        assert done.returncode == 0, done.stderr
        assert word not in done.stdout + done.stderr
        if db.engine == "MariaDB":  # read as a source too, by another way
            done = subprocess.run(
                [sys.executable, "-m", "kerfmark", "measure", url, "--table", "visit"],
                env=plain | {"KERFMARK_PASSWORD": word},
                cwd=tmp_path,
                capture_output=True,
                text=True,
                check=False,
            )
            assert done.returncode == 0, done.stderr
    finally:
        if db.engine == "MariaDB":
            db.do(f"DROP USER {user}@'127.0.0.1'")
        else:
            db.do(f"DROP OWNED BY {user} CASCADE", f"DROP ROLE {user}")


@pytest.mark.parametrize(
    ("url", "said"),
    [
        ("postgresql://nobody@127.0.0.1/test", ["does not know this user", "check the user"]),
        ("postgresql://127.0.0.1/test?sslmod=require", ['"sslmod"', 'did you mean "sslmode"?']),
        ("postgresql://127.0.0.1/test?sslmode=require&sslrootcert=no.pem", ["no.pem", '"sslrootcert"']),
        ("mysql://root@127.0.0.1/test?sslmode=require", ['"sslmode" that MySQL does not take', "ssl_ca"]),
        ("mariadb://root@127.0.0.1/test?ssl_ca=no.pem", ["no.pem: ", '"ssl_ca"', "check the name"]),
        ("mysql://root@127.0.0.1/test?wibble=1", ['"wibble"', "leave it out"]),
    ],
)  # fmt: skip
def test_what_a_url_says_wrongly_is_told_as_it_is(
    url: str, said: list[str], visits: Path, kerfmark: Runner
) -> None:
    for command in (["cut", "visits.csv", "--into", url], ["show", url], ["prove", url]):
        told = kerfmark(*command, code=2).err
        assert all(words in told for words in said), told
        assert "no such database" not in told and "fault" not in told


@pytest.mark.parametrize("db", ["PostgreSQL"], indirect=True)
def test_the_rights_of_others_stay_where_tables_are_made_anew(
    db: Target, visits: Path, kerfmark: Runner, tmp_path: Path
) -> None:
    role = f"r{os.getpid()}"

    def rights() -> set[tuple[str, str, bool]]:
        return {
            (t, p, g == "YES")
            for t, p, g in db.ask(
                "SELECT table_name::text, privilege_type::text, is_grantable::text FROM "
                f"information_schema.role_table_grants WHERE grantee = '{role}'"
            )
        }

    kerfmark("cut", "visits.csv", "--into", db)
    db.do(
        f"CREATE ROLE {role}",
        f"GRANT SELECT, UPDATE ON hive TO {role}",
        f"GRANT SELECT ON visits_flat TO {role} WITH GRANT OPTION",
        "GRANT SELECT ON apiary TO PUBLIC",
    )
    before = rights()
    assert ("visits_flat", "SELECT", True) in before and len(before) == 3
    try:
        kerfmark("cut", "visits.csv", "--into", db, "--replace")
        assert rights() == before
        (tmp_path / "new.toml").write_text(kerfmark("show", db, "--layout").out)
        kerfmark("mark", "new.toml", "--optional", "hive.kind")
        kerfmark("recut", db, "new.toml")
        assert rights() == before
        assert db.ask("SELECT has_table_privilege('public', 'apiary', 'SELECT')") == [True]
        kerfmark("mark", "new.toml", "--table-name", "hive=colony")
        told = kerfmark("recut", db, "new.toml").out
        assert f"{role} had SELECT, UPDATE on hive, which is no longer there" in told
        assert rights() == {r for r in before if r[0] != "hive"}
    finally:
        db.do(f"DROP OWNED BY {role}", f"DROP ROLE {role}")


def test_options_may_be_anywhere_among_the_files(write: Write, kerfmark: Runner) -> None:
    write("a.csv", "no,kg\n1,2\n2,3\n")
    write("b.csv", "day,mood\nMon,x\nTue,y\n")
    made = kerfmark("cut", "a.csv", "--into", "x.db", "b.csv", "--json").json
    assert {t["name"] for t in made["tables"]} == {"a", "b"}
    kerfmark("cut", "--into", "y.db", "a.csv", "--first-rows", "1", "b.csv")
    assert "Tue" not in kerfmark("show", "y.db", "--csv", "b").out
    told = kerfmark("cut", "a.csv", "--intp", "x.db", code=2).err
    assert told.startswith(
        "error: kerfmark cut does not take --intp x.db\nnext: did you mean --into?"
    )
    assert "did you mean cut?" in kerfmark("cutt", "a.csv", code=2).err


@pytest.mark.parametrize("db", ["MariaDB"], indirect=True)
def test_the_rights_on_the_page_are_those_that_are_needed(
    db: Target, write: Write, kerfmark: Runner
) -> None:
    page = (Path(__file__).parent.parent / "docs/servers.md").read_text("utf-8")
    rights = page.split("\nGRANT ")[1].split(" ON apiary.*")[0].split(", ")
    assert len(rights) == 10
    name, user = db.url.rsplit("/", 1)[-1], f"r{os.getpid()}"
    write("a.csv", "no,hive\n" + "".join(f"{n},H{n % 5}\n" for n in range(40)))
    write("b.csv", "no,hive,mood\n" + "".join(f"{n},H{n % 5},z\n" for n in range(50, 60)))
    write("d.csv", "hive,day\n" + "".join(f"H{n % 5},2026-01-{n + 1:02}\n" for n in range(20)))
    url = f"mysql://{user}@127.0.0.1/{name}"
    db.do(
        f"CREATE USER {user}@'127.0.0.1'",
        f"GRANT {', '.join(rights)} ON {name}.* TO {user}@'127.0.0.1'",
    )
    try:
        kerfmark("cut", "a.csv", "--into", url, "--known-by", "hive")
        kerfmark("add", "b.csv", "--into", url, "--put", "mood=a")
        kerfmark("cut", "d.csv", "--into", url, "--beside")
        kerfmark("undo", url)
        write("new.toml", kerfmark("show", url, "--layout").out)
        kerfmark("mark", "new.toml", "--column-name", "mood=temper")
        kerfmark("recut", url, "new.toml")
        kerfmark("refresh", url)
        db.do(f"REVOKE CREATE TEMPORARY TABLES ON {name}.* FROM {user}@'127.0.0.1'")
        write("c.csv", "no,hive,mood\n99,H1,z\n")
        told = kerfmark("add", "c.csv", "--into", url, code=2).err
        assert "the right CREATE TEMPORARY TABLES is missing" in told
        db.do(f"REVOKE {', '.join(rights)} ON {name}.* FROM {user}@'127.0.0.1'")
        db.do(f"GRANT SELECT ON {name}.* TO {user}@'127.0.0.1'")
        for command in (
            ["show", url],
            ["prove", url],
            ["export", url, "-o", "out"],
            ["draw", url, "-o", "a.svg"],
        ):
            kerfmark(*command)
        assert "may not do this" in kerfmark("add", "c.csv", "--into", url, code=2).err
    finally:
        db.do(f"DROP USER {user}@'127.0.0.1'")


def test_characters_that_the_database_cannot_hold_are_told_by_row(
    write: Callable[..., Path], kerfmark: Runner, tmp_path: Path
) -> None:
    """Before anything is written, and the other rows land where that is asked for."""
    import psycopg

    name, server = f"kt_{uuid.uuid4().hex[:12]}", SERVERS["PostgreSQL"]
    try:
        admin = psycopg.connect(server, autocommit=True)
    except psycopg.OperationalError as error:
        if os.environ.get("KERFMARK_TEST_SERVERS") == "required":
            raise
        pytest.skip(f"no PostgreSQL server answers here: {error}")
    with contextlib.closing(admin):
        admin.execute(
            f"CREATE DATABASE {name} ENCODING 'LATIN1' LC_COLLATE 'C' LC_CTYPE 'C' TEMPLATE template0"
        )
        try:
            where = server.replace("/test", f"/{name}")
            write("n.csv", "no,name\n1,José\n2,Łukasz\n3,Ana\n4,蜂\n")
            told = kerfmark("cut", "n.csv", "--into", where, code=1).err
            assert (
                'row 3, column "name": "?ukasz" has the character U+0141, which iso8859-1' in told
            )
            kerfmark("cut", "n.csv", "--into", where, "--set-aside", "a.csv", code=3)
            aside = (tmp_path / "a.csv").read_text("utf-8")
            assert "Łukasz" in aside and "蜂" in aside and "José" not in aside
            write("late.csv", "no,name\n5,Žižka\n6,Bo\n")
            told = kerfmark("add", "late.csv", "--into", where, code=1).err
            assert 'late.csv, row 2, column "name": "?i?ka" has the character U+017D' in told
            kerfmark("add", "late.csv", "--into", where, "--set-aside", "b.csv", code=3)
            with psycopg.connect(where) as one:
                found = one.execute("SELECT name FROM n ORDER BY no").fetchall()
            assert found == [("José",), ("Ana",), ("Bo",)]
        finally:
            admin.execute(f"DROP DATABASE {name} WITH (FORCE)")
