"""The command line: parses, calls one action, prints; decides nothing."""
