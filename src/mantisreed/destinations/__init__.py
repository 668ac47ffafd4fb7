"""Destinations: where results go: mail, HTTP calls, folders, storages, tables, programs."""
