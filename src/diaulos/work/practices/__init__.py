"""House practices: what departs from them, and what either choice costs."""
