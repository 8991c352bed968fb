"""Capture: the one reader of an audio stream, and what is read ahead of its callback."""
