"""Settings, recordings and rehearsals are checked against guides and the upload here.

In: settings, packets of a recording, notes of a rehearsal.
Out: findings with what to do, a recording described, a verdict on a rehearsal.
"""
