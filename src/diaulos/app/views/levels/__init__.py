"""The Rig view: the diagram, what is plugged where, findings, tracks, patch list, monitoring."""
