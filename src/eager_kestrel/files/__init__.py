"""Everything that reads or writes the disk."""
