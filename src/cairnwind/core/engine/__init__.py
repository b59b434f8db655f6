"""Events in, effects out."""
