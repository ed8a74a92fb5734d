"""One module a thing a user does; the Python API. Prints nothing."""
