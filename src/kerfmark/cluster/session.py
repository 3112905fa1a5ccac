"""The connection to a cluster, and what is told where there is none."""

from __future__ import annotations

import base64
import contextlib
import importlib.util
import json
import logging
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import threading
import uuid
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from kerfmark import errors
from kerfmark.errors import KerfmarkError, Origin, UsageError, was_interrupted
from kerfmark.progress import Progress, silent

if TYPE_CHECKING:
    from pyspark.sql import SparkSession

_GONE = "cluster.lost"
PATIENCE = 120.0
"""Seconds without any machine after which a cluster is taken for lost (KERFMARK_CLUSTER_PATIENCE in
the environment overrules it)."""
_PORT = 15002
"""The port of a server whose address has none."""
_ANSWERS = 20.0
"""Seconds in which a server answers."""
_LOOKS = 2.0
"""Seconds from one look at a cluster to the next."""
OLDEST_JAVA = 17
"""The oldest Java that the engine runs on."""
CONNECT = "sc://"
"""How the address of a server begins that makes the plans and knows the machines."""
SCHEMES = ("spark://", "k8s://", CONNECT)
"""How the addresses of clusters begin, other than `yarn`."""
_LOST = re.compile(
    "SparkContext was shut down|SparkContext has been shutdown|has been stopped|Connection refused|"
    "Master removed our application|All masters are unresponsive|Answer from Java side is empty|"
    "failed to connect to all addresses|UNAVAILABLE|cannot call methods on a stopped",
    re.IGNORECASE,
)


class ClusterError(UsageError):
    """The cluster cannot be used, or was lost."""

    code = "cluster"


def is_cluster(address: str) -> bool:
    """Whether a text is the address of a cluster."""
    return address == "yarn" or address.startswith(SCHEMES)


@contextlib.contextmanager
def connected(address: str, progress: Progress = silent) -> Iterator[tuple[SparkSession, Progress]]:
    """A session with the cluster at an address, which ends with the block; and what is to be told
    of the steps, which `progress` hears with the tasks that the cluster has done of each.

    Raises ClusterError where there is none, and where it is lost on the way.
    """
    if not is_cluster(address):
        raise _no_address(address)
    if address.startswith(CONNECT):
        _place_of(address)
    # what the driver's own libraries log is for developers; an interrupt is told once, by us
    quiet = logging.NullHandler()
    logging.getLogger().addHandler(quiet)
    there = _there(address)
    progress("connecting", 0, 0)
    session = there or _connect(address)
    watch = _Watch(session, progress, address)
    ours = _Ours(session, address)
    try:
        yield session, watch.step
    except BaseException as error:
        known = isinstance(error, KerfmarkError) or not isinstance(error, Exception)
        told = error if known else watch.lost or _told(error, address)
        if getattr(told, "code", "") != _GONE:
            ours.give_up()
        if was_interrupted(error):
            raise KeyboardInterrupt from error
        if known:
            raise
        raise told from error
    finally:
        watch.end()
        ours.end()
        with contextlib.suppress(Exception):
            if there is None and address.startswith(CONNECT):
                session.client.set_retry_policies([])  # one that is gone hears no farewell
            if there is None:
                session.stop()
        logging.getLogger().removeHandler(quiet)


class _Ours:
    """What this process asks of a session, which may be somebody else's: it bears a tag, so that it
    can be given up. (A session of a server has tags of its own; those of any other are only known
    to the thread that gave them, and so those of its context are used. Even these are lost at times
    when an interrupt has broken the connection: what was asked then goes on until the session of
    somebody else ends; one of our own ends at once.)"""

    def __init__(self, session: SparkSession, address: str) -> None:
        self._tag = f"kerfmark-{uuid.uuid4().hex}"
        context = None if address.startswith(CONNECT) else session.sparkContext
        self._remove = session.removeTag if context is None else context.removeJobTag
        self._cancel = session.interruptTag if context is None else context.cancelJobsWithTag
        with contextlib.suppress(Exception):  # of a cluster that is lost, what is asked next tells
            (session.addTag if context is None else context.addJobTag)(self._tag)

    def give_up(self) -> None:
        """Ends what was asked and is not waited for any more."""
        with contextlib.suppress(Exception):
            self._cancel(self._tag)

    def end(self) -> None:
        """What is asked from now on has no tag."""
        with contextlib.suppress(Exception):
            self._remove(self._tag)


class _Watch:
    """Looks at a cluster while it works: tells how far it is, and ends the work where all of its
    machines are gone."""

    def __init__(self, session: SparkSession, progress: Progress, address: str) -> None:
        self.lost: ClusterError | None = None
        self._progress, self._address, self._step = progress, address, "connecting"
        self._over = threading.Event()
        self._context: Any = None if address.startswith(CONNECT) else session.sparkContext
        self._thread = threading.Thread(target=self._look, daemon=True)
        if self._context is not None:
            self._thread.start()

    def step(self, step: str, done: int, total: int) -> None:
        """A step that begins, or how far it is."""
        self._step = step
        self._progress(step, done, total)

    def end(self) -> None:
        """Looks no more."""
        self._over.set()
        if self._thread.is_alive():
            self._thread.join(10)

    def _look(self) -> None:
        patience = _patience()
        alone = 0.0
        while not self._over.wait(_LOOKS):
            with contextlib.suppress(Exception):  # of a context that ends meanwhile
                self._tell_tasks()
                machines = self._context._jsc.sc().getExecutorMemoryStatus().size() - 1
                alone = 0.0 if machines > 0 else alone + _LOOKS
                if alone < patience:
                    continue
                self.lost = ClusterError(
                    "the cluster cannot be reached, or was lost",
                    code=_GONE,
                    origin=Origin(_shown(self._address)),
                    why=f"for {patience:.0f} seconds none of its machines has worked for this",
                    next="look whether it runs and has room for this, and run the same command "
                    "again: nothing was published",
                )
                self._context.cancelAllJobs()

    def _tell_tasks(self) -> None:
        tracker = self._context.statusTracker()
        stages = [tracker.getStageInfo(s) for s in tracker.getActiveStageIds()]
        tasks = [(s.numCompletedTasks, s.numTasks) for s in stages if s is not None]
        if tasks and not self._over.is_set():
            done, total = (sum(n) for n in zip(*tasks, strict=True))
            self._progress(self._step, done, total)


def _there(address: str) -> SparkSession | None:
    """The session that this process has already, whose it stays. Raises ClusterError where it is
    one with another cluster: a process can have one only."""
    if "pyspark" not in sys.modules:
        return None
    from pyspark.errors import PySparkException
    from pyspark.sql import SparkSession

    try:
        # not only that of this thread: after an interrupt, the engine knows it as another one
        there = SparkSession.active()
    except PySparkException:
        return None
    if "connect" in type(there).__module__:  # of a server, which tells no more than its name
        own = f"{CONNECT}{there.client.host}"
        same = address.startswith(CONNECT) and urlsplit(address).hostname == there.client.host
    else:
        own = str(there.sparkContext.master)
        same = own == address
    if not same:
        raise ClusterError(
            "this process has a session with another cluster",
            code="cluster.session",
            origin=Origin(own),
            next="stop that session first, or name its address",
        )
    return there


def _connect(address: str) -> SparkSession:
    needed = ["pyspark", "pandas", *(["grpc"] if address.startswith(CONNECT) else [])]
    missing = [p for p in needed if importlib.util.find_spec(p) is None]
    if missing:
        raise ClusterError(
            "working on a cluster needs a package that is not installed",
            code="cluster.package",
            why=f"there is no {' and no '.join(missing)}",
            next="pip install 'kerfmark[spark]' installs it",
        )
    if address.startswith(CONNECT):
        _check_server(address)
    else:
        _check_java()
    os.environ.setdefault("PYSPARK_PYTHON", sys.executable)
    from pyspark.sql import SparkSession

    builder = SparkSession.builder
    builder = (
        builder.remote(address) if address.startswith(CONNECT) else builder.master(address)
    ).appName("kerfmark")
    for name, value in _settings(address).items():
        builder = builder.config(name, value)
    interrupted = signal.getsignal(signal.SIGINT)
    try:
        with _without_chatter():
            session: SparkSession = builder.getOrCreate()
            if threading.current_thread() is threading.main_thread():
                signal.signal(signal.SIGINT, interrupted)  # the engine's own asks the cluster first
            if address.startswith(CONNECT):
                _be_patient(session)
            else:
                session.sparkContext.setLogLevel("OFF")
            session.range(1).count()  # a cluster that is not there is noticed here
    except Exception as error:
        if was_interrupted(error):
            raise KeyboardInterrupt from error
        raise _told(error, address) from error
    return session


def _settings(address: str) -> dict[str, str]:
    """What is usual for a session; what the cluster's own configuration says comes first."""
    out = {
        "spark.sql.session.timeZone": "UTC",
        "spark.sql.ansi.enabled": "true",
        "spark.sql.execution.arrow.maxRecordsPerBatch": "65536",
        "spark.ui.showConsoleProgress": "false",
    }
    if not address.startswith(CONNECT):
        out |= {"spark.ui.enabled": "false", "spark.task.maxFailures": "4"}
    for name, value in os.environ.items():  # KERFMARK_SPARK_executor_memory=4g
        if name.startswith("KERFMARK_SPARK_"):
            out["spark." + name.removeprefix("KERFMARK_SPARK_").replace("_", ".")] = value
    return out


def _patience() -> float:
    return float(os.environ.get("KERFMARK_CLUSTER_PATIENCE", PATIENCE))


def _place_of(address: str) -> tuple[str, int]:
    """The host and the port of a server. Raises ClusterError where an address has none."""
    try:
        where = urlsplit(address)
        host, port = where.hostname or "", where.port or _PORT
    except ValueError:
        host, port = "", 0
    if not host:
        raise _no_address(address)
    return host, port


def _check_server(address: str) -> None:
    """Raises ClusterError unless something answers at the address of a server: its client would try
    again for many minutes."""
    try:
        socket.create_connection(_place_of(address), _ANSWERS).close()
    except OSError as error:
        raise _unreachable(address, str(error)) from error


def _be_patient(session: SparkSession) -> None:
    """Has the client of a server try again as long as a cluster without machines is waited for."""
    from pyspark.sql.connect.client.retries import DefaultPolicy

    tries, waited, pause = 0, 0.0, 0.05
    while waited < _patience():
        tries, waited, pause = tries + 1, waited + min(pause, 60), pause * 4
    session.client.set_retry_policies([DefaultPolicy(max_retries=tries)])


def _check_java() -> None:
    """Raises ClusterError unless there is a Java that is new enough."""
    home = os.environ.get("JAVA_HOME")
    java = str(Path(home, "bin", "java")) if home else shutil.which("java")
    remedy = (
        f"install Java {OLDEST_JAVA} or later (Debian: apt-get install "
        f"openjdk-{OLDEST_JAVA}-jre-headless), or set JAVA_HOME to where it is\n"
        "use an address like sc://HOST:15002, which needs no Java here"
    )
    try:
        said = subprocess.run(
            [java or "java", "-version"], capture_output=True, text=True, check=True, timeout=60
        ).stderr
    except (OSError, subprocess.SubprocessError) as error:
        raise ClusterError(
            "working on a cluster needs Java, which is not there",
            code="cluster.java",
            why=str(error),
            next=remedy,
        ) from error
    found = re.search(r'version "(?:1\.)?(\d+)', said)
    if found and int(found[1]) < OLDEST_JAVA:
        raise ClusterError(
            f"Java {found[1]} is too old",
            code="cluster.java",
            why=f"the cluster's engine needs {OLDEST_JAVA} or later",
            next=remedy,
        )


@contextlib.contextmanager
def _without_chatter() -> Iterator[None]:
    """Keeps what the Java program says while it starts off the terminal."""
    if os.environ.get("KERFMARK_TRACEBACK"):
        yield
        return
    sys.stderr.flush()
    kept, nothing = os.dup(2), os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(nothing, 2)
        yield
    finally:
        os.dup2(kept, 2)
        os.close(kept)
        os.close(nothing)


def _told(error: BaseException, address: str) -> KerfmarkError:
    """What a failure of the cluster is to a person."""
    said = str(error)
    if raised := error_from_executor(said):
        return raised
    first = next((line.strip() for line in said.splitlines() if line.strip()), repr(error))
    if _LOST.search(said) or type(error).__name__ in ("Py4JNetworkError", "ConnectionRefusedError"):
        return _unreachable(address, first)
    if lost := re.search(r"ModuleNotFoundError: No module named '([^']+)'", said):
        return ClusterError(
            "the machines of the cluster do not have the packages that this needs",
            code="cluster.package",
            origin=Origin(_shown(address)),
            why=f"there is no {lost[1]} in the Python that they run",
            next="pip install 'kerfmark[spark]' there, for the Python that PYSPARK_PYTHON names\n"
            "set PYSPARK_PYTHON here to one that they all have",
        )
    return ClusterError(
        "the cluster could not do its part",
        code="cluster.failed",
        origin=Origin(_shown(address)),
        why=first[:600],
        next="look at the cluster's own log, and run the same command again: nothing was "
        "published\nKERFMARK_TRACEBACK=1 makes the same command say all that it knows",
    )


def _shown(address: str) -> str:
    """An address without what comes after its first semicolon, which may be a token."""
    return address.partition(";")[0]


def _no_address(text: str) -> ClusterError:
    return ClusterError(
        f'"{_shown(text)}" is not the address of a cluster',
        code="cluster.address",
        next="name it like spark://HOST:7077, yarn, k8s://HOST:443 or sc://HOST:15002",
    )


def _unreachable(address: str, why: str) -> ClusterError:
    return ClusterError(
        "the cluster cannot be reached, or was lost",
        code=_GONE,
        origin=Origin(_shown(address)),
        why=why[:300],
        next="look whether it runs, and run the same command again: nothing was published",
    )


MARK = "kerfmark-error:"
"""What is before an error of our own in what an executor says."""


def error_from_executor(said: str) -> KerfmarkError | None:
    """An error that was raised in an executor, as it would have been raised here."""
    found = re.search(re.escape(MARK) + "([A-Za-z0-9+/=]+)", said)
    if not found:
        return None
    fields: dict[str, Any] = json.loads(base64.b64decode(found[1]))
    origin, kind = fields.pop("origin"), fields.pop("kind")
    known = {k.__name__: k for k in vars(errors).values() if isinstance(k, type)}
    class_ = known.get(kind, KerfmarkError)
    error = class_(**fields) if issubclass(class_, KerfmarkError) else KerfmarkError(**fields)
    error.origin = Origin(**origin) if origin else None
    return error
