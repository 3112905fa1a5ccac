"""Files and sheets as batches of text cells with their origin.

Here belongs: finding the dialect, the encoding and the header, and cutting a file into batches of
Arrow text columns with true row numbers. Not here: what the cells mean (`profile`), and anything
about tables or databases to write.
"""
