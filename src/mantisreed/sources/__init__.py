"""From where recordings come: files, folders, links, tables, and folders that fill up."""
