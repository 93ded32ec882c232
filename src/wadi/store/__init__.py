"""The run folder: state and rows in SQLite, replies in WARC files, and the order in which pages are read."""
