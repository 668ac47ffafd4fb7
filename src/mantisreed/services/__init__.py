"""Text services: what is asked of translators, judges and voices, by the same card language as
speech engines.
"""
