"""What a reply says: documents, passages, words and their times."""
