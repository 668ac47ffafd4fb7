"""Judging transcripts: pure functions on transcripts, wherever they come from."""
