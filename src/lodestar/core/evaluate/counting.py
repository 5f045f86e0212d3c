"""Numbers in the words of a title: a pattern in braces stands for a value that is keyed, and so counts."""

import functools
import re
from decimal import ROUND_HALF_EVEN, Decimal, InvalidOperation

import msgspec

from ..shot.objects import Title

# a part of the number patterns of Unicode's LDML (UTS 35, part 3): digits that are always there (0) or only where needed (#), a comma
# for groups, a point for decimals
PATTERN = re.compile(r"\{([#0,]*[#0])(?:\.(0+)(#*))?\}")
MOST = Decimal(10) ** 15


def numbers_in(text: str) -> bool:
    """Whether a text has a pattern for a number."""
    return PATTERN.search(text) is not None


@functools.lru_cache(maxsize=256)
def in_pattern(value: float, whole: str, decimals: str, more: str) -> str:
    """A number as '#,##0' (whole), '00' (decimals that are always there) and '#' (more, where needed) ask for it; halves go to the even digit, as
    LDML has it."""
    try:
        number = min(max(Decimal(repr(value)), -MOST), MOST)
    except InvalidOperation:
        number = Decimal(0)
    places = len(decimals) + len(more)
    rounded = number.quantize(Decimal(1).scaleb(-places), ROUND_HALF_EVEN)
    sign, digits = ("-" if rounded < 0 else ""), f"{abs(rounded):f}"
    before, _, after = digits.partition(".")
    after = after[: len(decimals)] + after[len(decimals) :].rstrip("0")
    before = before.lstrip("0").rjust(whole.count("0"), "0")
    if "," in whole:
        before = _grouped(before, len(whole) - 1 - whole.rindex(","))
    return sign + before + (f".{after}" if after else "")


def _grouped(digits: str, group: int) -> str:
    first = len(digits) % group or group
    return ",".join([digits[:first], *(digits[k : k + group] for k in range(first, len(digits), group))]) if digits else digits


def counted(title: Title, frame: float) -> Title:
    """The title with its number written out as it is at a frame; what some letters have of their own stays with them."""
    found = PATTERN.search(title.text)
    if found is None:
        return title
    begin, end = found.span()
    shown = in_pattern(title.number.at(frame)[0], found.group(1), found.group(2) or "", found.group(3) or "")
    longer = len(shown) - (end - begin)
    first = lambda k: k if k <= begin else k + longer if k >= end else begin
    last = lambda k: k if k < begin else k + longer if k >= end else max(begin + len(shown) - 1, begin)
    styles = tuple(msgspec.structs.replace(s, first=first(s.first), last=last(s.last)) for s in title.styles)
    kerns = tuple(msgspec.structs.replace(k, letter=last(k.letter)) for k in title.kerns)
    return msgspec.structs.replace(title, text=title.text[:begin] + shown + title.text[end:], styles=styles, kerns=kerns)
