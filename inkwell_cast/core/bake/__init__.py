"""The road of a bake, from meshes and a recipe to written maps."""
