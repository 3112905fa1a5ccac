"""What the cells of a source are: their distinct values, blanks, types and formats.

Here belongs: encoding columns as integer codes, recognising types from all values, and converting
text to typed values and back. Not here: how columns belong together (`structure`), and how values
are stored (`store`).
"""
