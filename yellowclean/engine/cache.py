"""A bounded memory of arrays: the least recently used go first."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

T = TypeVar("T")


class BoundedCache(Generic[T]):
    """Holds values up to a number of bytes; safe to use from several threads.

    Two threads that miss the same key at once may both compute it; the results are equal, so the
    cost is time alone.
    """

    def __init__(self, limit_bytes: int, size_of: Callable[[T], int]) -> None:
        self._limit, self._size_of = limit_bytes, size_of
        self._items: OrderedDict[Hashable, T] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

    def raise_limit(self, limit_bytes: int) -> None:
        """Let the cache grow to at least that size."""
        self._limit = max(self._limit, limit_bytes)

    def get(self, key: Hashable, make: Callable[[], T]) -> T:
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                return self._items[key]
        value = make()
        with self._lock:
            if key not in self._items:
                self._items[key] = value
                self._bytes += self._size_of(value)
            while self._bytes > self._limit and len(self._items) > 1:
                _, oldest = self._items.popitem(last=False)
                self._bytes -= self._size_of(oldest)
        return value
