"""Renderers: one module an output format.  Pure functions from a review to text; they count and decide nothing."""
