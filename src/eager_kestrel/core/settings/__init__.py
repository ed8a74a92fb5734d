"""Each setting is one module here; ``table.py`` lists them, and everything walks that list.

In: settings of any program, of a recording or of a plan, and a guide with its tier applied.
Out: a plan's settings with the reason for each, findings, and what to set instead.
"""
