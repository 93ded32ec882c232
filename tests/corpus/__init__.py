"""Made-up listings and detail pages in many styles, each with its truth, on which drafting and learning are measured.

The pages were written before the code that is measured on them. `python tests/draft_figures.py` gives the figures.
"""
