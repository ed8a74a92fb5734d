"""Protocols and bitstreams as pure, sans-I/O state machines and parsers."""
