"""Jobs that the ledger knows."""
