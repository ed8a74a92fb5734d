"""How somebody's own pictures compress is decided here.

In: what a clip shows second by second, encodes of it that were measured, the bundled parameters.
Out: which stretches to try, which picture is best at which bitrate, parameters of this footage.
"""
