"""Nothing is ever written over what it is made from."""

import os
from collections.abc import Iterable
from pathlib import Path

from .errors import OutputError


def is_same_file(a: Path, b: Path) -> bool:
    """Whether two paths are one file, through links and other spellings too; files that are not there yet are told by their names."""
    try:
        return os.path.samefile(a, b)
    except OSError:
        return os.path.realpath(a) == os.path.realpath(b)


def refuse_sources(outputs: Iterable[Path], sources: Iterable[Path]) -> None:
    """Raises OutputError where an output is one of the files that it would be made from."""
    names: dict[str, Path] = {os.path.realpath(source): source for source in sources}
    for output in outputs:
        # by name first: a sequence has thousands; by the file itself where it has several names
        found = names.get(os.path.realpath(output))
        if found is None and output.exists():
            found = next((source for source in names.values() if is_same_file(output, source)), None)
        if found is not None:
            proposed = output.with_name(f"{output.stem}-titled{output.suffix}").name
            raise OutputError(f"{output.name} is what this is made from, and would be lost.", f"Choose another name, for example {proposed}.")
