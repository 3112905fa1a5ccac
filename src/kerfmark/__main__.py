"""python -m kerfmark"""

from kerfmark.cli.main import run

if __name__ == "__main__":
    run()
