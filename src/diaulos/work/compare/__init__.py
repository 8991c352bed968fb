"""Compare: which is better, and may they be stacked?"""
