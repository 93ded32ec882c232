"""Labelled pages: small listings in many styles, each with the expression that picks its rows and nothing else.

The labels were written before the ranker of `wadi inspect`, and are not changed to fit it.
"""
