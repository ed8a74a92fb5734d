"""Resolution, frame rate and bitrate for one guide are chosen here.

In: an uplink, a show, a guide with its tier applied, the table of the quality model.
Out: the budget (``budget.py``), every candidate scored at any safe rate, the upload a resolution
needs.
"""
