"""What all other rooms stand on: array types, errors, files, memory, threads."""
