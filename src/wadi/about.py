"""Who this is: the version that goes into requests, runs and messages."""

VERSION = "0.1.0"
