"""All that a user can set, and rules over settings."""
