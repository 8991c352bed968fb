"""The core is tested with Qt out of reach: importing it is an error here."""

from __future__ import annotations

import sys
from importlib.abc import MetaPathFinder


class _NoQt(MetaPathFinder):
    def find_spec(self, name: str, path: object, target: object = None) -> None:
        if name.partition(".")[0] in ("PySide6", "pyqtgraph"):
            raise ImportError(f"{name} was imported by the core or its tests")


# Run by itself (./diaulos test), this folder never sees Qt; run together with the window's
# tests by hand, Qt may be loaded already and the fence would only confuse.
if "PySide6" not in sys.modules and "pytestqt" not in sys.modules:
    sys.meta_path.insert(0, _NoQt())
