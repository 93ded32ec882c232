"""Plans drafted from pages."""
