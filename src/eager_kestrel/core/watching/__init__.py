"""A stream while it goes out: is it carried, who is at fault if not, what to do before it is seen.

In: looks at a connection, several a second; the plan's steps down.
Out: a verdict at each look; a broadcast, second by second, with its troubles; a review.
"""
