"""Tangent bases."""
