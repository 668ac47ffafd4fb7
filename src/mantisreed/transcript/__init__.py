"""The transcript: its document, its JSON, and comparing what was said with what was heard."""
