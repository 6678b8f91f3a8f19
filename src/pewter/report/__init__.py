"""Renderers: one module an output format.  Pure functions from a review; they count and decide nothing."""
