"""The command line: argparse, one module per command, and the only place that prints.

Nothing of the core may import from here. Results go to standard output, progress and messages to
standard error.
"""
