"""The made-up engines."""
