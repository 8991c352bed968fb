"""Every data class of the window can be made: a mistake in one would show at its first instance."""

import dataclasses
import importlib
import pkgutil

import diaulos.app


def test_every_data_class_of_the_window_can_be_made() -> None:
    found = 0
    for module in pkgutil.walk_packages(diaulos.app.__path__, "diaulos.app."):
        for one in vars(importlib.import_module(module.name)).values():
            if isinstance(one, type) and one.__module__ == module.name:
                if "__dataclass_fields__" in vars(one):
                    dataclasses.fields(one)
                    found += 1
    assert found >= 20
