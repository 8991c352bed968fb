__version__ = "0.1.0"
RELEASED = "2026-11-30"
"""Of this version, for what is installed."""
