"""Numbers as an artist types them: with arithmetic, and lengths in a unit of their own."""

import ast
import operator
import re
from collections.abc import Callable
from typing import Literal

from ..base.setting import Unit, scene_units

MILLIMETRES = {"mm": 1.0, "cm": 10.0, "m": 1000.0, "in": 25.4}
World = Literal["mm", "cm", "m", "in"]
ENDING = re.compile(r"^(.*?)\s*(%|mm|cm|m|in|units?|u)$", re.IGNORECASE)
LONGEST = 60
OPERATORS: dict[type, Callable[[float, float], float]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
}


def number(text: str) -> float:
    """The value of a number or of a sum such as "2 + 1/4". Raises ValueError for anything else."""
    text = text.strip().replace(",", ".")
    if len(text) > LONGEST:
        raise ValueError("the sum is too long")
    if not any(character.isdecimal() for character in text):
        raise ValueError(f"“{text}” is no number")
    try:
        return float(_value(ast.parse(text, mode="eval").body))
    except (SyntaxError, ZeroDivisionError, OverflowError, RecursionError, MemoryError) as error:
        raise ValueError(f"“{text}” is no number") from error


def length(text: str, unit: Unit, diagonal: float, world: World) -> float:
    """A length in the unit of a piece's settings, from one that may name its own: "2 mm", "1.5%", "3 units".

    `diagonal` is that of the low in scene units, and one scene unit is a `world` long. Raises ValueError.
    """
    found = ENDING.match(text.strip())
    if not found:
        return number(text)
    value, given = number(found[1]), found[2].lower()
    if given == "%":
        scene = value * scene_units("percent", diagonal)
    else:
        scene = value * (MILLIMETRES[given] / MILLIMETRES[world] if given in MILLIMETRES else 1.0)
    one = scene_units(unit, diagonal)
    if not one:
        raise ValueError("per cent of the low need a low; add one first")
    return float(f"{scene / one:.6g}")


def _value(node: ast.AST) -> float:
    if isinstance(node, ast.Constant) and isinstance(node.value, (int, float)) and not isinstance(node.value, bool):
        return float(node.value)
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, (ast.UAdd, ast.USub)):
        value = _value(node.operand)
        return -value if isinstance(node.op, ast.USub) else value
    if isinstance(node, ast.BinOp) and type(node.op) in OPERATORS:
        return OPERATORS[type(node.op)](_value(node.left), _value(node.right))
    raise ValueError("only + − * / and brackets can stand between numbers")
