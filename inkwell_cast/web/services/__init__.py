"""What the pages do, one service a file."""
