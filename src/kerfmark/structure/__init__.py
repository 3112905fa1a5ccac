"""What belongs together: which columns decide which others, the entities that follow, and their
names.

Here belongs: dependency discovery, the weighing of evidence, and the proposal of a layout with its
reasons. Not here: reading files, writing the layout's text (`layout`), and making rows
(`normalize`).
"""
