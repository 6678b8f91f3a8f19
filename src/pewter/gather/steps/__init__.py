"""One module a step: a part of a look that asks one kind of question."""
