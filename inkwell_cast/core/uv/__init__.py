"""The sheet: triangles of the low on the texel grid."""
