__version__ = "0.2.0"
RELEASED = "2026-11-30"
"""Of this version, for what is installed."""
