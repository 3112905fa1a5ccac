"""Here: what has to be done to turn sources into the tables of a layout, as steps that name no
engine: which cells a source gives, how each table's records are told apart, by which rule a column
gets its value of what several rows say, which links are looked up, and in which order. The layout
is compiled once; whoever carries the plan out (`normalize` in this process, `cluster` on several
machines) decides nothing of this anew.

Not here: how a step is carried out, and anything that needs the data."""
