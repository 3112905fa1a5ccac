"""python -m kerfmark"""

import sys

from kerfmark.cli.main import main

if __name__ == "__main__":
    sys.exit(main())
