"""The routes of the HTTP API, and what they answer."""
