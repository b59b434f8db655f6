"""What is allowed: one file a gate, and who shares a place with whom."""
