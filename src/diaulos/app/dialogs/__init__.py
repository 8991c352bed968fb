"""Dialogs for what is not an everyday edit."""
