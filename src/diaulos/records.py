"""Data classes whose methods are made when the first instance is.

The standard decorator compiles the text of up to six functions for every class, when its module
is imported: a tenth of a second and more for the four hundred of this program, of which a start
uses sixty. Here this is put off until a class is called, unpickled, inherited from or asked for
its fields. What comes out is a data class of the standard library, to the last method.
"""

from __future__ import annotations

import dataclasses
import threading
import weakref
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING, Any

__all__ = ["dataclass", "make_ahead"]

if TYPE_CHECKING:
    from dataclasses import dataclass
else:

    def dataclass(cls: type | None = None, /, **options: bool) -> Any:
        """`dataclasses.dataclass`, its methods made when they are needed.

        Parameters
        ----------
        cls : type, optional
            The class, where the decorator stands without options.
        **options : bool
            Those of the standard decorator. With `slots` (another class is made) or without `init`
            nothing is put off.

        Returns
        -------
        type or callable
            The class itself, or the decorator for it.
        """

        def wrap(cls: type) -> type:
            return _put_off(cls, options)

        return wrap if cls is None else wrap(cls)


_put_by: list[weakref.ref[type]] = []
"""Classes that were put off, in the order of their modules."""


def make_ahead() -> Iterator[type]:
    """Make the classes that nobody needed yet, one at each step: for a thread that has time, so
    that who needs one soon does not wait for it."""
    while True:
        try:
            cls = _put_by.pop(0)()
        except IndexError:
            return  # none is left; another thread may have taken the last one
        if cls is not None:
            dataclasses.fields(cls)
            yield cls


# One lock for all: a class may need those that it inherits from, in one thread.
_making = threading.RLock()


class _Later:
    """Stands for what the standard decorator sets on the class, until somebody asks for it."""

    def __init__(self, make: Callable[[], None], name: str) -> None:
        self._make = make
        self._name = name

    def __get__(self, instance: object, owner: type) -> Any:
        self._make()
        return getattr(owner, self._name)


def _put_off(cls: type, options: dict[str, bool]) -> type:
    """The class with stand-ins that make its methods and give way to them."""
    own = {"__init__", "__setattr__", "__delattr__"} & vars(cls).keys()
    if own or options.get("slots") or not options.get("init", True):
        return _at_once(cls, options)

    def make() -> None:
        with _making:
            if vars(cls)["__init__"] is not stand_in:
                return  # another thread was here first
            # Made on a twin: who calls the class meanwhile, in another thread, meets the stand-in
            # and waits. It gives way last.
            before = _namespace(cls)
            named = {**before, "__qualname__": cls.__qualname__}
            twin = _at_once(type(cls)(cls.__name__, cls.__bases__, named), options)
            for name, value in vars(twin).items():
                if name not in _OWN and before.get(name, _NOTHING) is not value:
                    setattr(cls, name, value)
            for name in before.keys() - vars(twin).keys():
                delattr(cls, name)  # a field that is no default
            if options.get("frozen"):
                _freeze(cls)
            cls.__init__ = vars(twin)["__init__"]  # type: ignore[misc]

    def stand_in(self: object, *args: object, **kwargs: object) -> None:
        make()
        cls.__init__(self, *args, **kwargs)  # type: ignore[misc]

    def take_state(self: object, state: dict[str, object]) -> None:
        # An unpickled instance is never called into being. What it holds goes where the standard
        # way puts it, too: past `__setattr__`, which a frozen class refuses.
        make()
        self.__dict__.update(state)

    setattr(cls, "__init__", stand_in)  # noqa: B010 - the type checker forbids the plain way
    setattr(cls, "__setstate__", take_state)  # noqa: B010
    for name in ("__dataclass_fields__", "__dataclass_params__"):
        setattr(cls, name, _Later(make, name))
    _put_by.append(weakref.ref(cls))
    return cls


_NOTHING = object()
_OWN = {
    "__dict__", "__weakref__", "__doc__", "__init__", "__setattr__", "__delattr__", "_abc_impl",
}  # fmt: skip
"""What a twin has for itself."""


def _namespace(cls: type) -> dict[str, Any]:
    """What stands in a class, without what was put there to stand for something."""
    without = {*_OWN, "__setstate__", "__dataclass_fields__", "__dataclass_params__"}
    inside = {name: value for name, value in vars(cls).items() if name not in without}
    inside["__doc__"] = cls.__doc__ or cls.__name__  # else it is made up of the signature
    return inside


def _freeze(cls: Any) -> None:
    """As the standard decorator does; its own functions know the twin."""
    names = frozenset(vars(cls)["__dataclass_fields__"])

    def setter(self: object, name: str, value: object) -> None:
        if type(self) is cls or name in names:
            raise dataclasses.FrozenInstanceError(f"cannot assign to field {name!r}")
        super(cls, self).__setattr__(name, value)

    def deleter(self: object, name: str) -> None:
        if type(self) is cls or name in names:
            raise dataclasses.FrozenInstanceError(f"cannot delete field {name!r}")
        super(cls, self).__delattr__(name)

    for made, name in ((setter, "__setattr__"), (deleter, "__delattr__")):
        made.__name__, made.__qualname__ = name, f"{cls.__qualname__}.{name}"
        setattr(cls, name, made)


def _at_once(cls: type, options: dict[str, bool]) -> type:
    made: type = dataclasses.dataclass(**options)(cls)
    return made
