"""How several destinations share one upload is decided here.

In: a show with its guides, and the safe rate of the whole upload.
Out: which destinations share an encode, how much each gets, which are left out, and what was
compared.
"""
