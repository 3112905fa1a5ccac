"""Where and how things are printed: results on standard output, talk on standard error, both as
plain or as rich as the place they go to."""

from __future__ import annotations

import dataclasses
import json
import os
import sys
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from decimal import Decimal
from pathlib import PurePath
from typing import TYPE_CHECKING, Any

from kerfmark.visible import visible

if TYPE_CHECKING:
    from rich.console import Console
    from rich.progress import Progress, TaskID
    from rich.text import Text

PATIENCE = 1.0
"""Seconds that a command may take before a progress bar appears."""
NARROWEST = 12
"""Characters to which a column is cut at most."""
WIDE = 10_000
"""Columns assumed where the output is not a terminal, so that nothing is wrapped or cut."""

HEAD, NAME, FAINT, BAD, GOOD = "bold dark_orange3", "bold", "dim", "bold red3", "bold green4"


class Terminal:
    """The two streams of one run, and how talkative it is."""

    def __init__(
        self,
        *,
        quiet: bool = False,
        verbose: bool = False,
        as_json: bool = False,
        mute: bool = False,
    ) -> None:
        self.quiet, self.verbose, self.as_json = quiet, verbose, as_json
        self.mute = mute or as_json  # of what a command has done nothing is said
        self.working: Bar | None = None

    def _console(self, error: bool) -> Console:
        from rich.console import Console

        stream = sys.stderr if error else sys.stdout
        on_screen = stream.isatty()
        plain = (
            bool(os.environ.get("NO_COLOR")) or os.environ.get("TERM") == "dumb" or not on_screen
        )
        return Console(
            file=stream,
            width=None if on_screen else WIDE,
            no_color=plain,
            highlight=False,
            emoji=False,
            color_system=None if plain else "auto",
            soft_wrap=not on_screen,
        )

    def say(self, *parts: str | tuple[str, str]) -> None:
        """A line of the result: plain texts, and (text, style)."""
        if not self.mute:
            self._console(False).print(styled(*parts))

    def table(
        self,
        heads: Sequence[str],
        rows: Iterable[Sequence[Any]],
        *,
        right: Sequence[int] = (),
        cut: Sequence[int] = (),
    ) -> None:
        """Rows under headings; the columns in `right` are numbers. Where the terminal is too
        narrow, those in `cut` are cut."""
        if self.mute:
            return
        from rich.cells import cell_len, set_cell_size
        from rich.table import Table

        console = self._console(False)
        lines = [[str(c) for c in row] for row in rows]
        widths = [max(cell_len(line[i]) for line in [heads, *lines]) for i in range(len(heads))]
        while (
            cut
            and sum(widths) + 3 * len(widths) > console.width
            and max(widths[i] for i in cut) > NARROWEST
        ):
            widths[max(cut, key=widths.__getitem__)] -= 1
        lines = [
            [
                c if cell_len(c) <= w else set_cell_size(c, w - 1) + "…"
                for c, w in zip(line, widths, strict=True)
            ]
            for line in lines
        ]
        table = Table(box=None, pad_edge=False, padding=(0, 3, 0, 0), header_style=HEAD)
        for i, head in enumerate(heads):
            table.add_column(
                styled(head),
                justify="right" if i in right else "left",
                overflow="ellipsis",
                no_wrap=True,
                min_width=1,
            )
        for row in lines:
            table.add_row(*[styled((c, NAME) if i == 0 else c) for i, c in enumerate(row)])
        if console.is_terminal:
            console.print(table)
            return
        with console.capture() as captured:
            console.print(table)
        sys.stdout.write("".join(line.rstrip() + "\n" for line in captured.get().splitlines()))

    def fits(self, heads: Sequence[str], rows: Sequence[Sequence[Any]]) -> bool:
        """Whether a table is narrow enough to be printed without cutting anything."""
        from rich.cells import cell_len

        lines = [heads, *rows]
        return (
            sum(max(cell_len(str(line[i])) for line in lines) + 3 for i in range(len(heads)))
            <= self._console(False).width + 3
        )

    def result(self, value: Any) -> None:
        """The whole result as one JSON document, where that was asked for."""
        if self.as_json:
            sys.stdout.write(json.dumps(plain(value), ensure_ascii=False, indent=1) + "\n")

    def note(self, *parts: str | tuple[str, str]) -> None:
        """A line of talk beside the result."""
        if not self.quiet:
            self._console(True).print(styled(*parts))

    def fail(self, text: str) -> None:
        """An error; the first line says what, further ones where, why and what next."""
        console = self._console(True)
        console.print(styled(("error: ", BAD), text))

    def progress(self) -> Bar:
        """A callback for the core that draws a bar where someone is looking."""
        console = (
            self._console if sys.stderr.isatty() and not self.quiet and not self.as_json else None
        )
        self.working = Bar(console, self.note if self.verbose else None)
        return self.working


class Bar:
    """Shows what the core is doing, once it takes longer than `PATIENCE`, whether the core says
    more by then or not; `tell` is called at the start of each step."""

    def __init__(
        self, console: Callable[[bool], Console] | None, tell: Callable[[str], None] | None = None
    ) -> None:
        self._tell, self._told = tell, ""
        self._console, self._started, self._step = console, time.monotonic(), ""
        self._bar: Progress | None = None
        self._task: TaskID | None = None
        self._step_started = self._started
        self._latest = ("", 0, 0)
        self._showing = threading.Lock()
        self._ended = self.succeeded = False
        self._timer = threading.Timer(PATIENCE, self._show)
        self._timer.daemon = True
        if console is not None:
            self._timer.start()

    def __call__(self, step: str, done: int, total: int) -> None:
        if self._tell is not None and step != self._told:
            self._told = step
            self._tell(f"{time.monotonic() - self._started:7.2f} s  {step}")
        if self._console is None:
            return
        if step != self._latest[0]:
            self._step_started = time.monotonic()
        self._latest = (step, done, total)
        if time.monotonic() - self._started >= PATIENCE:
            self._show()

    def _show(self) -> None:
        """Draws what is being done."""
        with self._showing:
            step, done, total = self._latest
            if self._console is None or self._ended or not step:
                return
            if self._bar is None:
                from rich.progress import BarColumn, Progress, TextColumn

                bar = BarColumn(30, "grey82", "dark_orange3", "dark_orange3", "dark_orange3")
                self._bar = Progress(
                    TextColumn("{task.description}"),
                    bar,
                    TextColumn("{task.fields[pace]}"),
                    console=self._console(True),
                    transient=True,
                )
                self._bar.start()
            if step != self._step or self._task is None:
                if self._task is not None:
                    self._bar.remove_task(self._task)
                self._task, self._step = (
                    self._bar.add_task(step, total=total or None, pace=""),
                    step,
                )
            spent = time.monotonic() - self._step_started
            pace = (
                f"{done:,} rows" + (f", {done / spent:,.0f} a second" if spent > 0.2 else "")
                if done
                else ""
            )
            self._bar.update(self._task, completed=done, total=total or None, pace=pace)

    def __enter__(self) -> Bar:
        return self

    def __exit__(self, *error: object) -> None:
        self.succeeded = error[0] is None
        self._timer.cancel()
        with self._showing:
            self._ended = True
            if self._bar is not None:
                self._bar.stop()


def styled(*parts: str | tuple[str, str]) -> Text:
    """Texts put together. Nothing in them is taken for markup, and control characters are shown,
    not obeyed."""
    from rich.text import Text

    return Text.assemble(
        *[visible(p) if isinstance(p, str) else (visible(p[0]), p[1]) for p in parts]
    )


def plain(value: Any) -> Any:
    """A result as JSON knows it; properties that say how it went are included."""
    if dataclasses.is_dataclass(value) and not isinstance(value, type):
        out = {f.name: plain(getattr(value, f.name)) for f in dataclasses.fields(value)}
        return out | ({"holds": value.holds} if hasattr(value, "holds") else {})
    if isinstance(value, dict):
        return {str(k): plain(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [plain(v) for v in value]
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, Decimal):
        return (
            int(value)
            if value == value.to_integral_value() and value.as_tuple().exponent == 0
            else float(value)
        )
    if hasattr(value, "isoformat"):  # a date or time of a server
        return str(value)
    return str(value) if isinstance(value, PurePath) else value


def size(n: int) -> str:
    """A number of bytes as a person says it."""
    value, unit = float(n), "bytes"
    for unit in ("bytes", "KB", "MB", "GB"):
        if value < 1000 or unit == "GB":
            break
        value /= 1000
    return f"{n} bytes" if unit == "bytes" else f"{value:.1f} {unit}"
