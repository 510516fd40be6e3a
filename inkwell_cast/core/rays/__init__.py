"""Rays: where they start, which way they go, what they strike."""
