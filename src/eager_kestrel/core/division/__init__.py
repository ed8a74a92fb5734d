"""How several destinations share one line is decided here.

In: a show with its guides, and the safe rate of the whole line.
Out: who shares an encode, how much each gets, who is left out, what else was weighed.
"""
