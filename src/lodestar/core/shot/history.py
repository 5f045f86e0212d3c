"""Edits and undo: an edit is a label and a function from shot to shot; undo puts the old value back."""

from collections.abc import Callable

from .document import Shot

Edit = Callable[[Shot], Shot]


class History:
    """The present shot, and those before and after it with the labels of the edits between."""

    def __init__(self, shot: Shot) -> None:
        self.shot = shot
        self._past: list[tuple[str, Shot]] = []
        self._future: list[tuple[str, Shot]] = []
        self._group: object = None

    def apply(self, label: str, edit: Edit, group: object = None) -> None:
        """Make an edit. Edits in a row with the same `group` (one drag) are one step of undo."""
        after = edit(self.shot)
        if after is self.shot:
            return
        if group is None or group != self._group:
            self._past.append((label, self.shot))
        self._group = group
        self.shot = after
        self._future.clear()

    def close_group(self) -> None:
        self._group = None

    def undo(self) -> str | None:
        """Step back; returns the label of what was undone, None when there is nothing."""
        return self._step(self._past, self._future)

    def redo(self) -> str | None:
        return self._step(self._future, self._past)

    def _step(self, source: list, target: list) -> str | None:
        self._group = None
        if not source:
            return None
        label, shot = source.pop()
        target.append((label, self.shot))
        self.shot = shot
        return label

    @property
    def undo_label(self) -> str | None:
        return self._past[-1][0] if self._past else None

    @property
    def redo_label(self) -> str | None:
        return self._future[-1][0] if self._future else None
