"""The cage: where rays start, and what it holds of the sculpt."""
