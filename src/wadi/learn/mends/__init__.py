"""Plans mended after a redesign."""
