"""Errors that a user can act on. Each says what happened, and what to do about it."""


class UserError(Exception):
    """Something the user can mend: `what` happened (one sentence), and a `hint` of what to do."""

    exit_status = 2

    def __init__(self, what: str, hint: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.hint = hint

    def __str__(self) -> str:
        return f"{self.what} {self.hint}".strip()


class PlateError(UserError):
    """A clip or picture that cannot be read."""


class TrackError(UserError):
    """Tracking that cannot begin or found nothing."""


class SolveError(UserError):
    """A camera that cannot be solved, with the reason."""

    exit_status = 3


class ShotFileError(UserError):
    """A .lode or camera file that cannot be read or written. part: what of the shot the fault is in, without which it may open."""

    part = ""


class OutputError(UserError):
    """A delivery that cannot be written."""


class RenderError(UserError):
    """A picture that cannot be made on this machine."""


class Cancelled(Exception):
    """The user stopped the job; what was there before is untouched."""


def writing_problem(path: object, error: OSError) -> UserError:
    """The sentence for a file that cannot be written: no space, no permission, no folder."""
    import errno

    reasons = {
        errno.ENOSPC: ("the disk is full", "Free some space or choose another disk; nothing of the old file was touched."),
        errno.EDQUOT: ("the disk quota is used up", "Free some space or choose another disk; nothing of the old file was touched."),
        errno.EACCES: ("there is no permission to write there", "Choose a folder that you may write to."),
        errno.EPERM: ("there is no permission to write there", "Choose a folder that you may write to."),
        errno.EROFS: ("the disk is read-only", "Choose a folder that you may write to."),
        errno.ENOENT: ("the folder does not exist", "Make the folder first, or choose another."),
        errno.ENOTDIR: ("part of the path is not a folder", "Choose another folder."),
        errno.ENAMETOOLONG: ("its name is too long", "Choose a shorter name; 255 bytes are the most."),
        errno.EISDIR: ("this name belongs to a folder", "Choose another name."),
    }
    reason, hint = reasons.get(error.errno or 0, (error.strerror or "the system refused", "Choose another place."))
    return OutputError(f"{path} could not be written: {reason}.", hint)
