"""A bounded memory of arrays: the least recently used go first."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import dataclass, field
from typing import Any, TypeVar, cast

T = TypeVar("T")


@dataclass
class _Making:
    """A value on its way, for all who ask for it meanwhile."""

    done: threading.Event = field(default_factory=threading.Event)
    value: Any = None
    made: bool = False


class Memory:
    """Holds values up to a number of bytes; safe to use from several threads.

    Threads that miss the same key at once compute it once: the others wait. Where the one that computes is
    stopped, the next one takes over.
    """

    def __init__(self, limit_bytes: int) -> None:
        self._limit = limit_bytes
        self._items: OrderedDict[Hashable, tuple[Any, int]] = OrderedDict()
        self._making: dict[Hashable, _Making] = {}
        self._bytes = 0
        self._lock = threading.Lock()

    @property
    def bytes(self) -> int:
        """What is held now."""
        return self._bytes

    def raise_limit(self, limit_bytes: int) -> None:
        """Let the memory grow to at least that size."""
        self._limit = max(self._limit, limit_bytes)

    def get(self, key: Hashable, make: Callable[[], T], size_of: Callable[[T], int]) -> T:
        """The value of a key, made by `make` where it is not held; `size_of` tells its bytes."""
        while True:
            with self._lock:
                if key in self._items:
                    self._items.move_to_end(key)
                    return cast(T, self._items[key][0])
                making = self._making.get(key)
                if making is None:
                    making = self._making[key] = _Making()
                    break
            making.done.wait()
            if making.made:
                return cast(T, making.value)
        try:
            value = make()
            making.value, making.made = value, True
            self._keep(key, value, size_of(value))
            return value
        finally:
            with self._lock:
                del self._making[key]
            making.done.set()

    def _keep(self, key: Hashable, value: Any, size: int) -> None:
        with self._lock:
            self._items[key] = value, size
            self._bytes += size
            while self._bytes > self._limit and len(self._items) > 1:
                _, (_, oldest) = self._items.popitem(last=False)
                self._bytes -= oldest

    def newest(self, wanted: Callable[[Any], bool]) -> tuple[Any, Any] | None:
        """The key and value used last of those that are held and whose keys `wanted` names."""
        with self._lock:
            return next(((key, self._items[key][0]) for key in reversed(self._items) if wanted(key)), None)

    def forget(self, belongs: Callable[[Any], bool]) -> None:
        """Drop the values of all keys that `belongs` names."""
        with self._lock:
            for key in [k for k in self._items if belongs(k)]:
                self._bytes -= self._items.pop(key)[1]
