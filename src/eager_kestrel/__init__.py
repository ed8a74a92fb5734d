"""Eager Kestrel: from the upload as a live stream feels it to settings that hold, with reasons.

The way through is ``samples -> Run -> Uplink -> Budget -> (Guide, Show) -> Plan``; each noun is one
module in :mod:`eager_kestrel.core`, and :mod:`eager_kestrel.actions` is the Python API.
"""

__version__ = "0.1.0"
