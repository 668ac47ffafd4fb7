"""Made-up engines that really listen, the phrases they know, and the demo recordings made of those
phrases.
"""
