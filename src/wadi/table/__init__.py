"""Rows assembled into tables, and tables written in formats."""
