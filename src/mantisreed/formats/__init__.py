"""Readers and writers of subtitle formats."""
