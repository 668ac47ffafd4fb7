"""A recording becomes pieces."""
