"""The database of the ledger."""
