"""What leaves the product, and whole pieces and batches."""
