"""What was worked out once and may be asked for again."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

T = TypeVar("T")


class Kept(Generic[T]):
    """What was worked out, by its key; the longest unused goes first. For several threads."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._held: OrderedDict[Hashable, T] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], T]) -> T:
        """What is kept for a key, else what is made now."""
        with self._lock:
            if key in self._held:
                self._held.move_to_end(key)
                return self._held[key]
        found = make()
        with self._lock:
            self._held[key] = found
            while len(self._held) > self._most:
                self._held.popitem(last=False)
        return found

    def clear(self) -> None:
        """Forget all of it."""
        with self._lock:
            self._held.clear()
