"""Rows as files: delimited text with its metadata, workbooks, Parquet, JSON Lines.

Here belongs: how cells are written so that they mean the same when they are read again, and do no
harm when a spreadsheet opens them. Not here: which rows, and why.
"""
