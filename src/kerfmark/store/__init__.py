"""Databases: one module per engine that makes tables, takes batches, and begins, commits or throws away.

Here belongs: DDL, types, quoting and bulk loading of each engine, and reading tables back. Not here: files, sources or
what the rows mean.
"""
