"""What is done with recordings and transcripts beside the way of a run."""
