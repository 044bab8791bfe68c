"""`@frozen`: a dataclass that is never changed, and costs next to nothing to define; `@changing`: one that may be
changed.

`@dataclass(frozen=True)` writes and compiles six functions for every class, and half of a command's start-up time
went into them, for classes of which it makes a few instances or none. Here a class becomes a dataclass when it is
first treated as one, the methods that compare and show are shared by all, and `__init__` is compiled only for classes
that turn out to be used often. That nothing is changed is left to the type checker; `dataclasses.replace`, `fields`,
`asdict` work as usual.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import MISSING, Field, dataclass, field
from functools import cache
from operator import attrgetter
from typing import Any, NamedTuple, TypeVar, cast, dataclass_transform

T = TypeVar("T")

_FEW = 30
"""Instances made before an `__init__` is compiled."""


@dataclass_transform(frozen_default=True, field_specifiers=(field,))
def frozen(cls: type[T]) -> type[T]:
    """Make `cls` a dataclass with equality, a hash and a repr from its fields."""
    return _light(cls, {**_SHARED, "__hash__": _hash})


@dataclass_transform(field_specifiers=(field,))
def changing(cls: type[T]) -> type[T]:
    """The same for a class whose fields may be set again, and which has no hash."""
    return _light(cls, {**_SHARED, "__hash__": None})


def _light(cls: type[T], methods: dict[str, Any]) -> type[T]:
    made: Any = cls
    own = vars(cls)
    for name, method in methods.items():
        if name not in own:
            setattr(made, name, method)
    made.__doc__ = cls.__doc__ or cls.__name__  # else the standard library computes a signature to put there
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
        _fields_of(cls)
        del cls.__dataclass_fields__
        return dataclass(init=False, repr=False, eq=False)(cls).__dataclass_fields__


class _Value(NamedTuple):
    """A field, as seen by `__init__`."""

    name: str
    default: Any = MISSING
    make: Any = MISSING

    def unsaid(self, cls: type) -> Any:
        """Its value if none is given."""
        if self.default is not MISSING:
            return self.default
        if self.make is MISSING:
            raise TypeError(f"{cls.__name__} needs {self.name}")
        return self.make()


def _fields_of(cls: Any) -> tuple[_Value, ...]:
    """The fields of a class in order, its parents' first."""
    return _fields_in(cls)


@cache
def _fields_in(cls: Hashable) -> tuple[_Value, ...]:
    found: dict[str, _Value] = {}
    for base in reversed(cast(type, cls).__mro__):
        found |= _own_fields(base)
    return tuple(found.values())


@cache
def _own_fields(cls: Hashable) -> dict[str, _Value]:
    """What a class says about its own fields; the standard library removes it once it has made a dataclass."""
    own = vars(cls)
    found: dict[str, _Value] = {}
    for name, kind in own.get("__annotations__", {}).items():
        said = own.get(name, MISSING)
        if not str(kind).startswith("ClassVar"):
            made = isinstance(said, Field)
            found[name] = _Value(name, said.default, said.default_factory) if made else _Value(name, said)
    return found


def _first_init(self: Any, *values: Any, **named: Any) -> None:
    """`__init__` of a class with few instances so far."""
    cls = type(self)
    cls._instances += 1
    wanted = _fields_of(cls)
    if cls._instances > _FEW:
        cls.__init__ = _compiled_init(wanted)
        cls.__init__(self, *values, **named)
        return
    if len(values) > len(wanted):
        raise TypeError(f"{cls.__name__} takes {len(wanted)} values, {len(values)} were given")
    state = self.__dict__
    for each, value in zip(wanted, values, strict=False):
        state[each.name] = value
    for each in wanted[len(values) :]:
        state[each.name] = named.pop(each.name) if each.name in named else each.unsaid(cls)
    if named:
        raise TypeError(f"{cls.__name__} has no {', '.join(named)}, or was given it twice")


def _compiled_init(wanted: tuple[_Value, ...]) -> Any:
    """A compiled `__init__` for a class, like the standard library's."""
    scope: dict[str, Any] = {"MISSING": MISSING}
    parameters, lines = ["self"], []
    for name, default, make in wanted:
        value = name
        if default is not MISSING:
            scope[f"_{name}"] = default
            parameters.append(f"{name}=_{name}")
        elif make is not MISSING:
            scope[f"_{name}"] = make
            parameters.append(f"{name}=MISSING")
            value = f"{name} if {name} is not MISSING else _{name}()"
        else:
            parameters.append(name)
        lines.append(f" self.{name} = {value}")
    exec(f"def __init__({', '.join(parameters)}):\n" + "\n".join(lines or [" pass"]), scope)
    return scope["__init__"]


@cache
def _values_of(cls: Any) -> Callable[[object], object]:
    """A function that returns the values of all fields of an instance."""
    names = [each.name for each in _fields_of(cls)]
    return attrgetter(*names) if names else type


def _eq(self: Any, other: Any) -> Any:
    if other.__class__ is not self.__class__:
        return NotImplemented
    values = _values_of(self.__class__)
    return bool(values(self) == values(other))


def _hash(self: Any) -> int:
    return hash((self.__class__, _values_of(self.__class__)(self)))


def _repr(self: Any) -> str:
    shown = ", ".join(f"{each.name}={getattr(self, each.name)!r}" for each in _fields_of(type(self)))
    return f"{type(self).__qualname__}({shown})"


_SHARED: dict[str, Any] = {"__init__": _first_init, "__repr__": _repr, "__eq__": _eq}
