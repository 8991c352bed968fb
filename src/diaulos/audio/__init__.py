"""Back ends: the simulated bench, and output to the system's audio or to nobody."""
