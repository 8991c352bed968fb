"""The Levels view: gain at every station, noise, what clips first, and what to set."""
