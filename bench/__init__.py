"""Measurements: `python -m bench`, or `make bench`."""
