"""``make bench``: measures the product against bare references, in turns, in the same process tree."""
