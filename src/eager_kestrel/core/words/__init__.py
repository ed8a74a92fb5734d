"""Every sentence people read about a run, a budget, a plan or a rehearsal is written here.

In: facts with types, or plain values; nothing is decided and no document is known.
Out: text, so that all wording can be read, reviewed and one day translated in one sitting.
"""
