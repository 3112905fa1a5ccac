"""Rows as files that people open: delimited text and workbooks.

Here belongs: how cells are written so that they mean the same when they are read again, and do no harm when a spreadsheet opens
them. Not here: which rows, and why.
"""
