"""Sound in and sound out: what a recording holds, its samples as a stream, and encoding stretches
of it.
"""
