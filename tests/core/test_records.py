"""The data classes whose methods are made late are data classes all the same."""

import abc
import copy
import dataclasses
import functools
import gc
import importlib
import inspect
import itertools
import pickle
import pkgutil
import subprocess
import sys
import threading
from dataclasses import field
from typing import Generic, TypeVar

import pytest

import diaulos
from diaulos.records import dataclass, make_ahead

T = TypeVar("T")


@dataclass(frozen=True)
class Point:
    x: float
    y: float = 2.0
    tags: list[str] = field(default_factory=list)

    def __post_init__(self) -> None:
        if self.x < 0:
            raise ValueError("x")


@dataclass(frozen=True)
class Named(Point):
    name: str = "a"

    def __post_init__(self) -> None:
        super().__post_init__()


@dataclass
class Counter(Generic[T]):
    what: T
    n: int = 0


@dataclass(frozen=True, eq=False)
class Once:
    n: int


@dataclass(frozen=True)
class Kept:
    n: int


class Plain(Kept):
    def __init__(self, n: int) -> None:
        super().__init__(n + 1)


def is_made(cls: type) -> bool:
    return isinstance(vars(cls)["__dataclass_fields__"], dict)


def test_it_is_made_at_the_first_call_and_not_before() -> None:
    @dataclass(frozen=True)
    class Fresh:
        n: int
        m: int = 3

    assert not is_made(Fresh)
    one = Fresh(1)
    assert is_made(Fresh)
    assert (one.n, one.m, one) == (1, 3, Fresh(1, 3))
    assert repr(one).endswith("Fresh(n=1, m=3)")
    assert Fresh.__init__.__qualname__ == Fresh.__qualname__ + ".__init__"
    with pytest.raises(dataclasses.FrozenInstanceError):
        one.n = 2  # type: ignore[misc]
    with pytest.raises(TypeError, match="missing 1 required positional argument: 'n'"):
        Fresh()  # type: ignore[call-arg]


def test_what_is_inherited_from_is_made_first() -> None:
    one = Named(1.0, name="b")
    assert is_made(Named)
    assert is_made(Point)
    assert one == Named(1.0, 2.0, [], "b")
    assert [f.name for f in dataclasses.fields(Named)] == ["x", "y", "tags", "name"]
    assert hash(Once(1)) != hash(Once(1))
    with pytest.raises(ValueError, match="x"):
        Named(-1.0)
    assert Plain(1).n == 2
    counter: Counter[str] = Counter("a")
    counter.n += 1
    assert counter == Counter("a", 1)
    with pytest.raises(TypeError):
        hash(counter)


def test_it_is_what_the_standard_decorator_makes() -> None:
    """Attribute by attribute, for every way of asking for it."""

    class Base(abc.ABC):
        @property
        @abc.abstractmethod
        def size(self) -> int: ...

    def both(**options: bool) -> tuple[type, type]:
        made = []
        for decorator in (dataclass, dataclasses.dataclass):

            @decorator(**options)  # type: ignore[arg-type]
            class One(Base):
                n: int
                _: dataclasses.KW_ONLY
                m: int = 3
                hidden: int = field(default=4, repr=False, compare=False)
                tags: list[str] = field(default_factory=list)
                start: dataclasses.InitVar[int] = 0

                def __post_init__(self, start: int) -> None:
                    self.tags.append(str(start))

                @property
                def size(self) -> int:
                    return self.n

                @functools.cached_property
                def twice(self) -> int:
                    return 2 * self.n

            made.append(One)
        return made[0], made[1]

    names = ("frozen", "eq", "order", "repr", "unsafe_hash", "match_args")
    for chosen in itertools.product((False, True), repeat=len(names)):
        options = dict(zip(names, chosen, strict=True))
        if options["order"] and not options["eq"]:
            continue
        ours, plain = both(**options)
        one, other = ours(1, start=2), plain(1, start=2)
        assert repr(one) == repr(other) or not options["repr"]
        assert vars(one) == vars(other) == {"n": 1, "m": 3, "hidden": 4, "tags": ["2"]}
        assert (one.twice, one.size) == (2, 1)  # type: ignore[attr-defined]
        assert set(vars(ours)) - {"__setstate__"} == set(vars(plain)), options
        mine, theirs = vars(ours)["__dataclass_params__"], vars(plain)["__dataclass_params__"]
        assert repr(mine) == repr(theirs)
        assert ours.__abstractmethods__ == plain.__abstractmethods__ == frozenset()
        assert [f.name for f in dataclasses.fields(ours)] == ["n", "m", "hidden", "tags"]
        assert str(inspect.signature(ours)) == str(inspect.signature(plain))
        for name in ("__init__", "__repr__", "__eq__", "__setattr__", "__delattr__"):
            assert getattr(ours, name).__qualname__ == getattr(plain, name).__qualname__
        for act in (
            lambda one: setattr(one, "n", 5), lambda one: setattr(one, "other", 5),
            lambda one: delattr(one, "n"), hash, lambda one: one < copy.copy(one),
        ):  # fmt: skip
            said = []
            for thing in (one, other):
                try:
                    said.append(type(act(thing)))
                except Exception as error:
                    said.append((type(error), str(error)))
            assert said[0] == said[1], options


def test_what_nobody_needed_yet_is_made_ahead() -> None:
    @dataclass
    class Waiting:
        n: int = 1

    @dataclass
    class Gone:
        n: int = 1

    del Gone
    gc.collect()
    assert not is_made(Waiting)
    assert Waiting in list(make_ahead())
    assert is_made(Waiting)
    assert not list(make_ahead())


def test_what_inherits_from_a_frozen_one_may_have_more() -> None:
    """As in the standard library: only its fields are frozen there."""

    class Above(Kept):
        pass

    one = Above(1)
    one.more = 2  # type: ignore[attr-defined]
    del one.more  # type: ignore[attr-defined]
    with pytest.raises(dataclasses.FrozenInstanceError, match="cannot assign to field 'n'"):
        one.n = 2  # type: ignore[misc]
    with pytest.raises(dataclasses.FrozenInstanceError, match="cannot delete field 'n'"):
        del one.n


def test_what_cannot_be_put_off_is_made_at_once() -> None:
    @dataclass(init=False)
    class Bare:
        n: int = 4

    @dataclass(frozen=True)
    class Own:
        n: int

        def __init__(self) -> None:
            object.__setattr__(self, "n", 5)

    @dataclass(slots=True)
    class Slim:
        n: int

    with pytest.raises(TypeError, match="Cannot overwrite attribute __setattr__"):

        @dataclass(frozen=True)
        class Twice:
            n: int

            def __setattr__(self, name: str, value: object) -> None: ...

    assert is_made(Bare)
    assert is_made(Own)
    assert is_made(Slim)
    assert (Bare().n, Own().n, Slim(6).n) == (4, 5, 6)
    assert not hasattr(Slim(6), "__dict__")


def test_its_fields_are_known_before_the_first_instance() -> None:
    @dataclass
    class Asked:
        n: int = 1

    @dataclasses.dataclass
    class Below(Asked):
        m: int = 2

    assert dataclasses.is_dataclass(Asked)
    assert [f.name for f in dataclasses.fields(Asked)] == ["n"]
    assert Below() == Below(1, 2)


def test_a_class_named_in_a_pattern_has_its_order() -> None:
    match Kept(4):
        case Kept(n):
            assert n == 4


def test_it_goes_by_pickle_into_a_process_that_never_made_one() -> None:
    sent = pickle.dumps(Kept(7))
    assert copy.copy(Kept(7)) == Kept(7) == dataclasses.replace(Kept(1), n=7)
    there = (
        "import pickle, sys\n"
        "import test_records\n"
        "assert not test_records.is_made(test_records.Kept)\n"
        "one = pickle.loads(sys.stdin.buffer.read())\n"
        "assert one == test_records.Kept(7)\n"
        "try:\n    one.n = 2\n"
        "except test_records.dataclasses.FrozenInstanceError:\n    print('kept')\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", "import sys; sys.path[:0] = " + repr(sys.path) + "\n" + there],
        input=sent, capture_output=True, check=False,
    )  # fmt: skip
    assert done.stdout.decode().strip() == "kept", done.stderr.decode()


def test_two_threads_call_it_first_at_once() -> None:
    for _ in range(40):

        @dataclass(frozen=True)
        class Shared:
            n: int
            m: tuple[int, ...] = ()

        ready = threading.Barrier(4)
        made: list[object] = []

        def call(
            cls: type = Shared, gate: threading.Barrier = ready, into: list[object] = made
        ) -> None:
            gate.wait()
            into.append(cls(5))

        threads = [threading.Thread(target=call) for _ in range(4)]
        for one in threads:
            one.start()
        for one in threads:
            one.join()
        assert made == [Shared(5)] * 4


def test_every_data_class_of_the_program_can_be_made() -> None:
    """A mistake in one would come to light at its first instance only, in front of a user."""
    found = 0
    for module in pkgutil.walk_packages(diaulos.__path__, "diaulos."):
        if module.name.startswith("diaulos.app") or module.name.endswith(("_child", "__main__")):
            continue
        for one in vars(importlib.import_module(module.name)).values():
            if isinstance(one, type) and one.__module__ == module.name:
                if "__dataclass_fields__" in vars(one):
                    dataclasses.fields(one)
                    assert is_made(one)
                    assert not issubclass(one, BaseException), (
                        "exceptions are pickled their own way"
                    )
                    found += 1
    assert found > 300
