"""What the engine knows and remembers, as data, and what it is asked with."""
