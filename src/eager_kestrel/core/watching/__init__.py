"""A broadcast while it goes out: does it arrive, what is at fault if not, and what to do.

In: samples of a connection, several a second; the plan's fallbacks.
Out: a verdict on each sample; the broadcast, second by second, with its troubles; a review.
"""
