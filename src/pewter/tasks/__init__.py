"""What each command does, from a request to a result: the same for the program, for Python and for tests.

A task prints nothing.  What it says on the way, how it looks and how it waits is for its surroundings.
"""
