"""`dataclass`, made quickly: a program with two hundred of them starts a tenth of a second sooner.

The standard library writes and compiles six functions for each frozen class. Here only `__init__` is; what compares,
hashes and shows a record is one function for all. That a frozen record is not changed is held by the type checker,
which sees the standard library's own decorator.
"""

from __future__ import annotations

import dataclasses
from collections.abc import Callable
from operator import attrgetter
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dataclasses import dataclass
else:
    def dataclass(cls: type | None = None, /, *, frozen: bool = False, slots: bool = False) -> Any:
        """As `dataclasses.dataclass`, with these two of its options."""
        def made(cls: type) -> type:
            if cls.__doc__ is None:
                cls.__doc__ = cls.__name__  # else its signature is worked out for one
            own = vars(cls)
            record = dataclasses.dataclass(cls, repr=False, eq=False, slots=slots)
            values = _values_of([f.name for f in dataclasses.fields(record) if f.compare])
            if "__repr__" not in own:
                record.__repr__ = _shown
            if "__eq__" not in own:
                record.__eq__ = lambda self, other: (
                    values(self) == values(other) if other.__class__ is self.__class__ else NotImplemented)
            if "__hash__" not in own:
                record.__hash__ = (lambda self: hash(values(self))) if frozen else None
            return record

        return made if cls is None else made(cls)


def _values_of(names: list[str]) -> Callable[[Any], tuple[Any, ...]]:
    if len(names) > 1:
        return attrgetter(*names)
    return lambda self: tuple(getattr(self, name) for name in names)


def _shown(self: Any) -> str:
    values = ", ".join(f"{f.name}={getattr(self, f.name)!r}" for f in dataclasses.fields(self) if f.repr)
    return f"{type(self).__qualname__}({values})"


__all__ = ["dataclass"]
