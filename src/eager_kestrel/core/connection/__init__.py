"""What a connection carries is decided here.

In: samples, runs, broadcasts, and readings from elsewhere.
Out: the uplink: typical rate, floor and spread, on the whole and by hour of the day.
"""
