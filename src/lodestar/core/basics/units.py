"""Numbers as people type them: arithmetic with units, never evaluated as code."""

import ast
import re

from .errors import UserError

# factors to metres, degrees, seconds and plain shares
UNITS = {
    "mm": 0.001,
    "cm": 0.01,
    "m": 1.0,
    "km": 1000.0,
    "in": 0.0254,
    "ft": 0.3048,
    "°": 1.0,
    "deg": 1.0,
    "rad": 57.29577951308232,
    "px": 1.0,
    "%": 0.01,
    "s": 1.0,
    "ms": 0.001,
}
_NUMBER = re.compile(r"(\d+\.?\d*(?:[eE][-+]?\d+)?|\.\d+)\s*([a-zA-Z°%]*)")


def parse(text: str, unit: str = "") -> float:
    """The value of `text` in the unit in which the field shows it; numbers without a unit are in that unit.

    parse('1 m + 20 cm', 'm') = 1.2; parse('3/4', '%') = 0.75 (in %). Raises UserError for anything that is not arithmetic.
    """
    own = UNITS.get(unit, 1.0)
    wrong = UserError(f"“{text.strip()}” is not a number.", "Write a number, with + − × / and units if you like, for example 1 m + 20 cm.")

    def with_factor(match: re.Match) -> str:
        name = match.group(2)
        if name and name not in UNITS:
            raise wrong
        return f"({match.group(1)}*{(UNITS[name] if name else own) / own!r})"

    plain = text.replace(",", ".").replace("−", "-").replace("×", "*").replace("÷", "/").strip()
    if len(plain) > 200:
        raise wrong
    try:
        # the fields show no names, so anything but numbers and signs is refused before and by the walk below
        return float(_value(ast.parse(_NUMBER.sub(with_factor, plain), mode="eval").body))
    except (SyntaxError, ValueError, ZeroDivisionError, OverflowError, RecursionError, MemoryError) as error:
        raise wrong from error


def _value(node: ast.AST) -> float:
    match node:
        case ast.Constant(value=int() | float() as value):
            return float(value)
        case ast.UnaryOp(op=ast.USub(), operand=x):
            return -_value(x)
        case ast.UnaryOp(op=ast.UAdd(), operand=x):
            return _value(x)
        case ast.BinOp(left=a, op=ast.Add(), right=b):
            return _value(a) + _value(b)
        case ast.BinOp(left=a, op=ast.Sub(), right=b):
            return _value(a) - _value(b)
        case ast.BinOp(left=a, op=ast.Mult(), right=b):
            return _value(a) * _value(b)
        case ast.BinOp(left=a, op=ast.Div(), right=b):
            return _value(a) / _value(b)
    raise ValueError("not arithmetic")
