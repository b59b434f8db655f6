"""Links, one file a kind: what it says of itself (`KIND`), and the link. A file that is put here is found by its name."""
