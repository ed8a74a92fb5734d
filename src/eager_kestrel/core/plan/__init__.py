"""The whole answer for a show is put together here.

In: what was chosen and divided.
Out: the plan with its settings, reasons, fallbacks and offers, and the plan in other formats.
"""
