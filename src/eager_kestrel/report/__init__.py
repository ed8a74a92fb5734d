"""Figures and pages from finished results."""
