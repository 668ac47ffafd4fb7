"""How good a transcript is, and how it becomes better."""
