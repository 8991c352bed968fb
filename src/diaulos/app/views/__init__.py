"""One folder per view; views do not import one another."""
