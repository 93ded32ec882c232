"""Values in, values out: text, numbers, dates, types, steps. Nothing here knows a page or a network."""
