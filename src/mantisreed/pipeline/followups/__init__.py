"""What happens with a transcript when it is done."""
