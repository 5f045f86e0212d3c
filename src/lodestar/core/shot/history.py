"""Edits and undo: an edit is a label and a function from shot to shot; undo puts the old value back."""

from collections.abc import Callable

from ..basics.errors import UserError
from .document import Shot

Edit = Callable[[Shot], Shot]


class History:
    """The present shot, and those before and after it with the labels of the edits between."""

    def __init__(self, shot: Shot) -> None:
        self.shot = shot
        self._past: list[tuple[str, Shot]] = []
        self._future: list[tuple[str, Shot]] = []
        self._group: object = None
        self._drag: Edit | None = None  # the last edit of the open group

    def apply(self, label: str, edit: Edit, group: object = None) -> None:
        """Make an edit. Edits in a row with the same `group` (one drag) are one step of undo.

        Each edit of a group gets the shot as it was before the group, not what the one before made of it: it says all that the
        drag has done since the press.
        """
        if group is not None and group == self._group:
            self.shot = edit(self._past[-1][1])
            self._drag = edit
            return
        after = edit(self.shot)
        self.close_group()
        if after is self.shot:
            return
        self._past.append((label, self.shot))
        self._group, self._drag = group, edit if group is not None else None
        self.shot = after
        self._future.clear()

    def land(self, label: str, edit: Edit) -> None:
        """Make an edit that comes from elsewhere, as from a job that ends. While a drag goes on it is put in before the drag,
        which is then done again on what it made."""
        if self._drag is None:
            self.apply(label, edit)
            return
        dragged, before = self._past[-1]
        after = edit(before)
        if after is before:
            return
        self._past[-1:] = [(label, before)]
        self.shot = after  # a drag is told in what the views show
        try:
            self.shot = self._drag(after)
        except UserError:  # what was dragged is gone
            self._group = self._drag = None
            return
        self._past.append((dragged, after))

    def goes_on(self, group: object) -> bool:
        """Whether an edit of this group would go on with the last step."""
        return group is not None and group == self._group

    def close_group(self) -> None:
        if self._drag is not None and self._past and self._past[-1][1] is self.shot:
            self._past.pop()  # the drag went back to where it began
        self._group = self._drag = None

    def undo(self) -> str | None:
        """Step back; returns the label of what was undone, None when there is nothing."""
        return self._step(self._past, self._future)

    def redo(self) -> str | None:
        return self._step(self._future, self._past)

    def _step(self, source: list, target: list) -> str | None:
        self.close_group()
        if not source:
            return None
        label, shot = source.pop()
        target.append((label, self.shot))
        self.shot = shot
        return label

    def labels(self) -> tuple[list[str], list[str]]:
        """What was done, the first step first, and what was undone, the next one first."""
        return [label for label, _ in self._past], [label for label, _ in reversed(self._future)]

    @property
    def undo_label(self) -> str | None:
        return self._past[-1][0] if self._past else None

    @property
    def redo_label(self) -> str | None:
        return self._future[-1][0] if self._future else None
