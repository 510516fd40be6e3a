"""Looking at a bake: likeness, section, probe, meshes for display."""
