"""A layout and encoded sources become rows of tables: converted, split, linked, and checked before
anything is written.

Here belongs: conversion to types, one record per key, generated keys, links, and every problem that
the data have with the layout. Not here: reading files, deciding the layout (`structure`), or
talking to an engine (`store`).
"""
