"""Everything that opens a socket to measure or publish."""
