"""What a platform asks for is decided here.

In: a guide file, or the page it was copied from, and the tier of an account.
Out: rules and rungs as they hold for that account, for one platform or for several at once.
"""
