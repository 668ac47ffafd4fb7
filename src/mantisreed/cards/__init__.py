"""The card language: how a service is spoken to, said in a TOML table."""
