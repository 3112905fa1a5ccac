"""MySQL and MariaDB: `server` for where it is, `speech` for how it says things, `new` for building, `changing` for what is there.
"""
