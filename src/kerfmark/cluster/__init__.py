"""Here: carrying a plan out on a cluster of machines that run Apache Spark, with the same result as
in one process. Executors read files (in whole, or in blocks) and turn their cells into values with
`normalize`'s own code; the cluster's engine groups, joins and numbers records; executors write the
tables, and the driver publishes them in one step.

`session` connects; `files` finds files and cuts large ones into blocks; `staging` runs in
the executors and reads one unit of rows; `steps` carries the plan out on what they read;
`checks` looks for what does not fit, and `problems` tells it; `parquet` writes tables; `folder`
is the folder of data sets that comes of it, and `existing` gives what it has to rows that
are added.

A proof is in two modules: `proof_rows` runs in the executors and reads a source again in
`ledger`'s own way, `proof` holds that against what the tables show. So is a sample: `sample_rows`
takes rows in the executors, `sample` asks for them. Measuring has a pair of its own for rows
(`measured_rows`, `measured`) and three modules for values: `value_files` is how executors keep
them, `questions` what can be asked of them, and `values_there` asks it for one column or all.

Not here: what the tables are (`plan` says it), how they are found (`structure`), and any conversion
of cells."""
