"""The command line: arguments in, tables, progress and exit codes out; nothing else lives here."""
