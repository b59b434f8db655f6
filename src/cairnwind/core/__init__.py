"""Decides. No I/O, no clock, no threads: events in, effects out.

Whatever is in this package may be run twice on the same script and gives the same effects, byte for byte.
It imports the standard library's pure parts and nothing of ours above it.
"""
