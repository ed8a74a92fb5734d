"""How likely a stream has late frames on the line as it was measured is decided here.

In: runs, and what is sent, frame by frame.
Out: chances with intervals, the most under a risk, what waits in simulated hours.
"""
