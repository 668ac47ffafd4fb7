"""Moving jobs along: for now, keeping to an engine's pace."""
