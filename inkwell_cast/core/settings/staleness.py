"""Which settings make what stale."""

# settings that no ray heeds
RAYLESS = {
    "basis", "output", "occlusion", "sheet_occlusion", "curvature", "cavity", "height",
    "displacement", "thickness", "ids", "patches", "heals", "handoff", "library",
}  # fmt: skip
