"""What a page holds that nobody has described yet: rows, fields, paging, and where its data comes from."""
