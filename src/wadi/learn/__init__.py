"""What a page that nobody has described yet holds: rows, fields, types, how it goes on, where its data comes from."""
