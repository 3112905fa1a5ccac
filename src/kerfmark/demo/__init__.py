"""The demo data: files of a made-up beekeepers' association (see tools/make_demo.py)."""

from __future__ import annotations

from importlib import resources
from pathlib import Path

from kerfmark.errors import Origin, TargetError


def write_demo(folder: Path) -> list[Path]:
    """Writes the demo files into a folder, made if need be, and returns their paths.

    Raises TargetError when one of them is there already with other contents.
    """
    out = []
    if folder.exists() and not folder.is_dir():
        raise TargetError(
            "this is a file, not a folder", origin=Origin(str(folder)), next="name a folder"
        )
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for item in sorted(
            resources.files(__name__).joinpath("data").iterdir(), key=lambda i: i.name
        ):
            path, data = folder / item.name, item.read_bytes()
            if path.exists() and path.read_bytes() != data:
                raise TargetError(
                    "the demo would overwrite this file",
                    code="target.exists",
                    origin=Origin(str(path)),
                    next="name another folder",
                )
            path.write_bytes(data)
            out.append(path)
    except OSError as error:
        raise TargetError(
            "the demo cannot be written there", origin=Origin(str(folder)), why=str(error)
        ) from error
    return out
