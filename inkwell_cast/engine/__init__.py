"""Bakes and reading of meshes in processes of their own."""
