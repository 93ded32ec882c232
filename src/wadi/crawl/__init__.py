"""From a plan to a run: compiled page kinds, extracts, links, and the engine that asks page after page."""
