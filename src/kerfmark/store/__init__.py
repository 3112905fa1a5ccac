"""Databases: a package per engine, which makes tables, takes batches, commits or throws away.

Here belongs: DDL, types, quoting and bulk loading of each engine, reading tables back, and SQL
scripts. `interface` says what the other rooms may ask; `kerfmark/engines.py` finds the engines.
Not here: files, sources or what the rows mean.
"""
