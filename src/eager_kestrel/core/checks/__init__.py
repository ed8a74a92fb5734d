"""What is set, was recorded or was sent is held against guides and line here.

In: settings, packets of a recording, notes of a rehearsal.
Out: findings with what to do, a recording described, a rehearsal's verdict.
"""
