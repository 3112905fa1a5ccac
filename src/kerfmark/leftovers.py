"""Files and folders under the names that they have until they are complete, and what programs that
were killed have left of such."""

from __future__ import annotations

import contextlib
import glob
import os
import shutil
from pathlib import Path


def part_path(target: Path) -> Path:
    """What a file or folder is called until it is complete."""
    return target.with_name(f".{target.name}.{os.getpid()}.part")


def sweep(target: Path) -> None:
    """Removes what programs that run no more have left of a file or folder, and nothing of one that
    still runs."""
    for old in target.absolute().parent.glob(f".{glob.escape(target.name)}.*.part*"):
        owner = old.name.removeprefix(f".{target.name}.").split(".")[0]
        if owner.isdigit() and not is_running(int(owner)):
            remove(old)


def remove(path: Path) -> None:
    """Removes a file, or a folder with all that is in it, if it is there."""
    with contextlib.suppress(OSError):
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)


def is_running(process: int) -> bool:
    """Whether a process of that number is there."""
    if os.name != "posix":  # elsewhere asking may end it
        return True
    try:
        os.kill(process, 0)
    except (ProcessLookupError, OverflowError):
        return False
    except OSError:  # it is somebody else's, or this system does not tell
        return True
    return True
