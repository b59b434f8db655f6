"""The runtime: one thread owns the engine; HTTP; the event stream; health."""
