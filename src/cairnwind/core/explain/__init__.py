"""What was, why it is so, and what would be: read by people."""
