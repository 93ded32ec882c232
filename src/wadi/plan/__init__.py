"""The plan: its model, its reader with line numbers, and what lint finds wrong with it."""
