"""Takes: recorded, imported, cut, recovered; what is armed and what must be true before."""
