"""Mends that work after the cast, and mending everything."""
