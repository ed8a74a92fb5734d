"""How much a stream would have stuttered in everything observed of a connection.

In: evidence (runs and broadcasts), and what is sent, frame by frame.
Out: the stutter seen, its rate with an interval, the highest rate within a limit.
"""
