"""Pictures: arrays to files and back, one module a format."""
