"""Engine cards: how a speech-to-text engine is spoken to, said in TOML; requests built and replies
read by them.
"""
