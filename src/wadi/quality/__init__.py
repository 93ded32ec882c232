"""Whether tables can be trusted: profiles, checks, drift, comparison, charts, report."""
