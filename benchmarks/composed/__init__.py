"""Made-up services that nobody has seen before, composed from a seed, each with the card that its
ways imply.

They are for testing: whatever a seed composes, the card language has to be able to say.
"""
