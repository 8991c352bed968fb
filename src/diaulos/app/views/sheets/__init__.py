"""Sheets: how was this made, and how is it set up again?"""
