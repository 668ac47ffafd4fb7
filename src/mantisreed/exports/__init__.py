"""What a transcript is written as."""
