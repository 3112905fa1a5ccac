"""What was loaded when and from where, and the proof that it is all there.

Here belongs: the `kerfmark_` tables of a database, fingerprints, and the comparison of sources with
what the tables hold. Not here: making the tables themselves (`normalize`, `store`).
"""
