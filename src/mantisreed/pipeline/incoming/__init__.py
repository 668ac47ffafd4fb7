"""Recordings that come one by one: in watched folders, on standard input."""
