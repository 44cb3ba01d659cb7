"""The rules, by topic."""
