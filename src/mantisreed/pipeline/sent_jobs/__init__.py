"""Jobs that were sent before: taken up, called back for, forgotten."""
