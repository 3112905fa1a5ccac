"""A package that will be needed is loaded while files are read: reading is done by Arrow, which
leaves Python's lock alone.

Python keeps only those apart who import the very same module, not those who import modules of one
package that need each other. So whoever imports from a package that is begun here waits for it
first.
"""

from __future__ import annotations

import importlib
import threading

_begun: list[threading.Thread] = []


def begin_import(module: str) -> None:
    """Begins to load a module."""

    def load() -> None:
        try:
            importlib.import_module(module)
        except Exception:  # it comes up again where the module is imported
            return

    thread = threading.Thread(target=load)
    thread.start()
    _begun.append(thread)


def wait_for_imports() -> None:
    """Waits until all that was begun is loaded."""
    while _begun:
        _begun.pop().join()
