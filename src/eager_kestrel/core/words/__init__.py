"""Every sentence people read is written here.

In: facts with types, or plain values; nothing is decided here.
Out: text, in one place, so that all wording can be read and reviewed in one sitting.
"""
