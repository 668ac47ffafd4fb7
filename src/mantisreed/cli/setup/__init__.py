"""Engines, services, trust, and what is served."""
