"""Reamp: a stored DI goes out, comes back measured, and is matched."""
