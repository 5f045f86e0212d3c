"""Numbers and lengths as the user reads them: the decimal sign, metres or feet. Documents and the core keep points and metres."""

import re

from PyQt6.QtCore import QLocale

from lodestar.core.basics.units import parse

SIGNS = {"as the system has it": "", "1.5": ".", "1,5": ","}
LENGTHS = {"metres": ("m", 1.0), "feet": ("ft", 0.3048)}  # what a length is called, and how many metres it has


class _Shown:
    """What is chosen, kept here since numbers are painted all the time."""

    sign = "."
    length = LENGTHS["metres"]


def use(sign: str, lengths: str) -> bool:
    """Show numbers and lengths so from here on, by the names in SIGNS and LENGTHS; whether that changes anything."""
    before = _Shown.sign, _Shown.length
    _Shown.sign = SIGNS[sign] or QLocale.system().decimalPoint()
    _Shown.length = LENGTHS[lengths]
    return (_Shown.sign, _Shown.length) != before


def figure(value: float, decimals: int | str = "g") -> str:
    """With so many decimals, or by a format of Python's, with the user's decimal sign and a true minus."""
    text = f"{value:.{decimals}f}" if isinstance(decimals, int) else f"{value:{decimals}}"
    return text.replace(".", _Shown.sign).replace("-", "−")


def sentence(text: str) -> str:
    """A sentence of the core, which writes numbers with a point, with the user's decimal sign."""
    return re.sub(r"(?<=\d)\.(?=\d)", _Shown.sign, text)


def shown(unit: str) -> tuple[str, float]:
    """What a unit of the document is shown as, and how many of the document's that is; only metres are ever shown as another."""
    return _Shown.length if unit == "m" else (unit, 1.0)


def typed(text: str, unit: str) -> float:
    """What was typed in a field of this unit of the document, in that unit. Raises UserError where it is no arithmetic."""
    name, of = shown(unit)
    return parse(text, name) * of


def length(value: float, unit: str, decimals: int | str = 2) -> str:
    """A length of the scene with its unit: metres as the user reads them, or 'units' where nothing is measured."""
    name, of = shown(unit)
    return f"{figure(value / of, decimals)} {name}".rstrip()
