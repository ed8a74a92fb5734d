"""Settings are held against one guide here, rule by rule, and the nearest that satisfy it found.

In: settings of any program or of a plan, a guide with its tier applied.
Out: findings, and advice.
"""
