"""Simulated stand-ins: an uplink with a known trace and an upload endpoint."""
