"""Linear networks between an electromotive force and a load, over frequency."""
