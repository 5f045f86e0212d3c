"""How a value of the document is shown and typed: said beside the field that it belongs to, so that settings make their rows from it.

height: Annotated[Keyed, Row("Height", "m", 0.005, 3, low=0.001, tip="Height of the capitals")] = constant(1.0)
"""

import functools
from typing import Any, NamedTuple, get_type_hints

import msgspec


class Row(NamedTuple):
    """label; unit as shown; step of a drag by one px; decimals; low and high, in what is shown; factor from the document's unit to
    what is shown; tip; names of the components of a vector. colour: a colour instead of a number; flag: a tick."""

    label: str
    unit: str = ""
    step: float = 0.01
    decimals: int = 2
    low: float = -1e9
    high: float = 1e9
    factor: float = 1.0
    tip: str = ""
    names: tuple[str, ...] = ()


class MediaPath:
    """Marks a field that holds the path of a file which belongs to the shot."""


@functools.cache
def rows_of(kind: type) -> tuple[tuple[str, Row], ...]:
    """The names of a struct's fields that have a row, with their rows, in their order."""
    return tuple((name, extra) for name, extra in _extras(kind) if isinstance(extra, Row))


@functools.cache
def defaults_of(kind: type[msgspec.Struct]) -> dict[str, Any]:
    """What the fields of a struct are where nothing else is said, by name. Kept: to ask a struct with many fields takes half a millisecond."""
    return {field.name: field.default for field in msgspec.structs.fields(kind)}


def paths_of(kind: type) -> tuple[str, ...]:
    """The names of a struct's fields that hold paths of media."""
    return tuple(name for name, extra in _extras(kind) if extra is MediaPath)


def _extras(kind: type) -> list[tuple[str, Any]]:
    return [(name, extra) for name, hint in get_type_hints(kind, include_extras=True).items() for extra in getattr(hint, "__metadata__", ())]
