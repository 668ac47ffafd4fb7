"""Recordings in, transcripts out."""
