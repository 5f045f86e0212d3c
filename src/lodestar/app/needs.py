"""What commands need before they can be done, with the words in which that is told."""

from collections.abc import Callable

from lodestar.core.shot.objects import Title

from .session import Session


class Needs:
    """Conditions, each with what is missing where it does not hold, as in "needs a clip"."""

    def __init__(self, *parts: tuple[Callable[[], bool], str]) -> None:
        self.parts = parts

    def __call__(self) -> bool:
        return all(holds() for holds, _ in self.parts)

    def __and__(self, other: "Needs") -> "Needs":
        return Needs(*self.parts, *other.parts)

    def why(self) -> str:
        """The first thing that is missing; empty where nothing is."""
        return next((words for holds, words in self.parts if not holds()), "")


def a_clip(s: Session) -> Needs:
    return Needs((lambda: s.shot.plate is not None, "a clip"))


def a_solve(s: Session) -> Needs:
    return Needs((lambda: s.shot.solve is not None, "a solved camera"))


def no_work(s: Session) -> Needs:
    return Needs((lambda: not s.jobs.busy, "the running work to end"))


def an_object(s: Session) -> Needs:
    return Needs((lambda: s.object() is not None, "a chosen object"))


def a_title(s: Session) -> Needs:
    return Needs((lambda: isinstance(s.object(), Title), "a chosen title"))


def two_objects(s: Session) -> Needs:
    return Needs((lambda: len(s.chosen_objects()) > 1, "two chosen objects or more"))


def marks(s: Session, least: int = 1) -> Needs:
    return Needs((lambda: len(s.tracks) >= least, "chosen marks" if least == 1 else f"{least} chosen marks or more"))


def keys(s: Session) -> Needs:
    return Needs((lambda: bool(s.keys_or_all()), "an object with keys, or chosen keys"))


def chosen_keys(s: Session) -> Needs:
    return Needs((lambda: bool(s.keys), "chosen keys"))
