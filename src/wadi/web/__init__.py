"""Requests and replies: the client, its manners, and what is decided when something fails."""
