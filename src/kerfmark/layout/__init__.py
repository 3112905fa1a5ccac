"""The layout: how sources become tables, as a text file that people read, edit and keep under
version control.

Here belongs: the model, its text form, names that every engine takes, and what is wrong with a
layout. Not here: how a layout is proposed (`structure`) or carried out (`normalize`).
"""
