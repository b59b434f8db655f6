"""Links to boards, one module each, and the maps of their headers."""
