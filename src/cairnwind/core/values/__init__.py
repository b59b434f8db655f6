"""What things are worth: quantities, settings, colours, pitches, times. Imports nothing else of ours."""
