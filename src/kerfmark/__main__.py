"""python -m kerfmark"""

import sys

from kerfmark.cli.main import run

if __name__ == "__main__":
    sys.exit(run())
