"""Reamp: out to the amplifier and back."""
