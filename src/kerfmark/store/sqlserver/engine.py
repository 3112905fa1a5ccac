"""SQL Server: scripts for its own client."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kerfmark.engines import Engine

if TYPE_CHECKING:
    from kerfmark.store.script_style import ScriptStyle


def _script() -> ScriptStyle:
    from kerfmark.store.sqlserver.dialect import script

    return script()


ENGINES = (
    Engine(
        "sqlserver",
        "SQL Server",
        order=5,
        script=_script,
        run_script="sqlcmd -b -x -f 65001 -d {database} -i {script}",
    ),
)
