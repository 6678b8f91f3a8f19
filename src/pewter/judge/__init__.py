"""Expectations, rules, what a visitor meets, and the review that holds it all."""
