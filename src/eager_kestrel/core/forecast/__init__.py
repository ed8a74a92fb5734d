"""How sure a rate is: late frames forecast from the line's own history.

Begin with :mod:`eager_kestrel.core.forecast.forecast`; what is said rests on
:mod:`eager_kestrel.core.forecast.lines`.
"""
