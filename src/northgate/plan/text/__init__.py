"""What texts stand on that are read and written: what is wrong with data in words, lines that are kept, and records."""
