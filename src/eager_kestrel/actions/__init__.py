"""One module per thing a user does. Combines the rooms below, returns values, prints nothing.

:mod:`eager_kestrel` lists which of them are the Python API.
"""
