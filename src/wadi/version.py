"""The version, for all who write it into what they make."""

__version__ = "0.1.0"
