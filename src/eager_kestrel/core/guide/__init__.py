"""What a platform accepts is decided here.

In: a guide file, or the page it was copied from, and the tier of an account.
Out: rules and rows as they hold for that account, for one platform or for several at once.
"""
