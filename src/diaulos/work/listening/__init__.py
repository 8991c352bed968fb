"""Listening: what is heard of takes and passes, in time and at matched level."""
