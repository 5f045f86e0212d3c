"""Things as names of what was made of them."""

from typing import Any


class Same:
    """Stands for an array or a mesh by its identity, in the key of a cache; it keeps that alive, so that no other takes its name."""

    def __init__(self, of: Any) -> None:
        self.of = of

    def __hash__(self) -> int:
        return id(self.of)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Same) and self.of is other.of
