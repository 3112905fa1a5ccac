"""The demo data: files of a made-up beekeepers' association (see tools/make_demo.py)."""

from __future__ import annotations

from importlib import resources
from pathlib import Path

from kerfmark.errors import NO_PLACE, Origin, TargetError
from kerfmark.leftovers import remove


def write_demo(folder: Path) -> list[Path]:
    """Writes the demo files into a folder, made if need be, and returns their paths.

    Raises TargetError when one of them is there already with other contents.
    """
    out: list[Path] = []
    items = sorted(resources.files(__name__).joinpath("data").iterdir(), key=lambda i: i.name)
    names = {item.name for item in items}
    if folder.exists() and not folder.is_dir():
        raise TargetError(
            "this is a file, not a folder", origin=Origin(str(folder)), next="name a folder"
        )
    made = not folder.exists()
    try:
        folder.mkdir(parents=True, exist_ok=True)
        for item in items:
            path, data = folder / item.name, item.read_bytes()
            if path.exists() and path.read_bytes() != data:
                raise TargetError(
                    "the demo would overwrite this file",
                    code="target.exists",
                    origin=Origin(str(path)),
                    next="name another folder",
                )
            if not path.exists():
                out.append(path)
            path.write_bytes(data)
    except OSError as error:
        for path in (*out, *([folder] if made else [])):
            remove(path)
        raise TargetError(
            "the demo cannot be written there",
            origin=Origin(str(folder)),
            why=str(error.strerror or error),
            next=NO_PLACE,
        ) from error
    return sorted(p for p in folder.iterdir() if p.name in names)
