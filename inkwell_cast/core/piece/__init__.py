"""A piece put together from its meshes and its recipe."""
