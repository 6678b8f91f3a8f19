"""What reports draw, each made once from facts: words and order, no outcome."""
