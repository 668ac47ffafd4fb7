"""The river as a whole: sources in, outputs out."""
