"""Cues from a transcript, and the subtitle formats."""
