"""Rows and fields learned from values that a person sees, or that an earlier run has."""
