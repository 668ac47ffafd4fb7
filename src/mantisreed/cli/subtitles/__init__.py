"""Subtitles and transcripts as files."""
