"""MySQL and MariaDB: `reader` looks into a database, `changing` changes one that is there, `new`
builds tables."""
