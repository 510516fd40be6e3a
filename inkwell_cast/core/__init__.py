"""The computation: NumPy in, NumPy out."""
