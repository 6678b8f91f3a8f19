"""``python -m pewter``."""

from pewter.cli.start import run

run()
