"""SQLite: `reader` looks into a file, `changing` changes one that is there, `new` builds one."""
