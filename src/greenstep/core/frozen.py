"""`@frozen`: a dataclass that is never changed, and costs next to nothing to define.

`@dataclass(frozen=True)` writes and compiles six functions for every class, and half of the time in which a command
starts went into them, for classes of which it makes a few instances or none. Here a class becomes a dataclass when it
is first used, the methods that compare and show are one for all, and `__init__` is compiled for those that turn out
to be used often. That nothing is changed is the type checker's to see; `dataclasses.replace`, `fields`, `asdict` work
as ever.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import MISSING, Field, dataclass, field, fields, make_dataclass
from functools import cache
from operator import attrgetter
from typing import Any, TypeVar, dataclass_transform

T = TypeVar("T")

_FEW = 40
"""Instances that are made without a compiled `__init__`."""


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
def frozen(cls: type[T]) -> type[T]:
    """Make `cls` a dataclass with equality, a hash and a repr by its fields."""
    made: Any = cls
    own = vars(cls)
    for name, method in _SHARED.items():
        if name not in own:
            setattr(made, name, method)
    made.__doc__ = cls.__doc__ or cls.__name__  # else the standard library works out a signature to put there
    made.__dataclass_fields__ = _Later(cls)
    match_args = tuple(name for base in reversed(cls.__mro__) for name in vars(base).get("__annotations__", ()))
    setattr(made, "__match_args__", match_args)  # noqa: B010  (the type checker keeps this name for itself)
    made._instances = 0
    return cls


class _Later:
    """Stands for the fields of a class until they are asked for, which for most classes is never."""

    def __init__(self, cls: type) -> None:
        self._cls = cls

    def __get__(self, instance: object, owner: type) -> Any:
        cls: Any = self._cls
        del cls.__dataclass_fields__
        return dataclass(init=False, repr=False, eq=False)(cls).__dataclass_fields__


def _first_init(self: Any, *values: Any, **named: Any) -> None:
    """`__init__` of a class that few instances have been made of."""
    cls = type(self)
    cls._instances += 1
    if cls._instances > _FEW:
        cls.__init__ = _compiled_init(cls)
        cls.__init__(self, *values, **named)
        return
    wanted = fields(cls)
    if len(values) > len(wanted):
        raise TypeError(f"{cls.__name__} takes {len(wanted)} values, {len(values)} were given")
    state = self.__dict__
    for each, value in zip(wanted, values, strict=False):
        state[each.name] = value
    for each in wanted[len(values) :]:
        state[each.name] = named.pop(each.name) if each.name in named else _default(cls, each)
    if named:
        raise TypeError(f"{cls.__name__} has no {', '.join(named)}, or was given it twice")


def _default(cls: type, each: Field[Any]) -> Any:
    if each.default is not MISSING:
        return each.default
    if each.default_factory is MISSING:
        raise TypeError(f"{cls.__name__} needs {each.name}")
    return each.default_factory()


def _compiled_init(cls: Any) -> Any:
    """The one that the standard library makes."""
    same = [(each.name, Any, _like(each)) for each in fields(cls)]
    return make_dataclass(cls.__name__, same, repr=False, eq=False).__init__  # type: ignore[misc]


def _like(each: Any) -> Any:
    return field(default=each.default, default_factory=each.default_factory)


@cache
def _values_of(cls: Any) -> Callable[[object], object]:
    """What gives the values of all fields of an instance."""
    names = [each.name for each in fields(cls)]
    return attrgetter(*names) if names else type


def _eq(self: Any, other: Any) -> Any:
    if other.__class__ is not self.__class__:
        return NotImplemented
    values = _values_of(self.__class__)
    return bool(values(self) == values(other))


def _hash(self: Any) -> int:
    return hash((self.__class__, _values_of(self.__class__)(self)))


def _repr(self: Any) -> str:
    shown = ", ".join(f"{each.name}={getattr(self, each.name)!r}" for each in fields(self))
    return f"{type(self).__qualname__}({shown})"


_SHARED: dict[str, Any] = {"__init__": _first_init, "__repr__": _repr, "__eq__": _eq, "__hash__": _hash}
