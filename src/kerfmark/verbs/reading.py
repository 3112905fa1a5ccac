"""How files are to be read, for those who call the verbs. A module of its own, so that it loads
nothing else."""

from kerfmark.profile.skipped import SKIPPED
from kerfmark.read.source import Reading

__all__ = ["SKIPPED", "Reading"]
