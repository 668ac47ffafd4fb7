"""Where language breaks, by tables of small words of each language."""
