"""Meshes and what can be done to them."""
