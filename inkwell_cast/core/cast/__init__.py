"""Casting rays: samples of the sheet become hits."""
