"""Cairnwind: one service that owns the pins."""

__version__ = "0.7.0"
