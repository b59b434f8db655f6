"""Light, sound, movement and current, as pure functions."""
