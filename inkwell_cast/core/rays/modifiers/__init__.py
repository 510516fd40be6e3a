"""What changes rays at places of the low, one file each."""
