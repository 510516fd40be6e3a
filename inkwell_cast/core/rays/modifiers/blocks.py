"""Where things begin in the two flat arrays by which kernels know what is special on the low; see `special`."""

OUT, IN, SMOOTH, ERASE, STRAIGHTEN = range(5)
KINDS = ("out", "in", "smooth", "erase", "straighten")
POCKETS, NUDGES, SURFACE, FLAT, OMITS, PAINTED = 1, 2, 4, 8, 16, 32  # bits of `special`

# in `numbers`
(
    AT_POCKETS, AT_STROKES, AT_SEGMENTS, AT_CORNERS, AT_NORMALS, AT_BALLS, AT_NEAR, AT_FACES, AT_BENDS, AT_UVS,
    AT_PICTURE, AT_OMITTED, AT_END,
) = range(13)  # fmt: skip
# in `places`
(
    AT_OWNER, AT_STARTS, AT_LISTED, AT_GRID, AT_FIRST, AT_LIMITED, AT_CELLS, AT_NEAREST, AT_TRACERS, AT_PAIR, AT_BENT,
    AT_BENT_LISTED,
) = range(13, 25)  # fmt: skip
HEADER = 25
