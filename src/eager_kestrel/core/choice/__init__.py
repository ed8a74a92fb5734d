"""Resolution, frame rate and bitrate for one guide are decided here.

In: an uplink, a show, a guide with its tier applied, the table of the quality model.
Out: the budget, every candidate weighed at any safe rate, what upload a resolution takes.
"""
