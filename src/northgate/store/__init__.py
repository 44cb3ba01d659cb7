"""Plans and their revisions, kept in SQLite."""
