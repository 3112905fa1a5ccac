"""Pictures and pages: results turned into something to look at, each one file that needs nothing
else.

Here belongs: laying out and drawing. Not here: finding out what is drawn (the other rooms), and
writing it where a person asked (`cli`).
"""
