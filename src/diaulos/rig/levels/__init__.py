"""Levels of a course: the diagram, the noise budget, the gain solver, what if, and the checks
of a plan against what was measured."""
