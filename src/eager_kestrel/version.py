"""The version of the program, which documents carry."""

__version__ = "0.1.0"
