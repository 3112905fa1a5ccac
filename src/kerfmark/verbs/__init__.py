"""What people do with Kerfmark, one module per verb: each calls the rooms in their order and
returns a plain result.

Here belongs: opening what is named, the order of the steps, results as dataclasses. Not here:
anything printed (`cli`), and the work itself (the other rooms).
"""
