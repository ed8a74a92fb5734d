"""What the line carries is decided here.

In: samples of bytes delivered over time, readings from elsewhere, tries of ingest points.
Out: runs in figures, the uplink they speak for together, hours of the day, a ranking.
"""
