"""Instruments: what inputs do to them, strength, trims, drive, tuning."""
