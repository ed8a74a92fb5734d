"""Everything that touches encoded video."""
