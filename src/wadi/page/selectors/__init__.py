"""CSS Selectors Level 4 (W3C) over lxml trees: parsed once into matchers, answered from an index of the row that is asked."""
