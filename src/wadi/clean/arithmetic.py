"""Small arithmetic over the columns of a row: `flow / depth`, `round(altitude * 3.281, 1)`. Parsed and walked, never `eval`.

A missing value makes the result missing. Names are columns; what is there is in OPERATORS and FUNCTIONS, nothing else.
"""

from __future__ import annotations

import ast
import operator
from collections.abc import Callable, Mapping
from typing import Any

from wadi.clean.errors import BadSetting, NotReadable

_LONGEST = 500
_LARGEST_POWER = 64
_LARGEST_TEXT = 100_000


def _power(base: Any, exponent: Any) -> Any:
    if abs(exponent) > _LARGEST_POWER:
        raise ValueError("the power is too large")
    return base**exponent


def _product(one: Any, other: Any) -> Any:
    if isinstance(one, str) or isinstance(other, str):
        raise TypeError("a text cannot be multiplied")
    return one * other


def _sum(one: Any, other: Any) -> Any:
    if isinstance(one, str) != isinstance(other, str):
        one, other = str(one), str(other)
    result = one + other
    if isinstance(result, str) and len(result) > _LARGEST_TEXT:
        raise ValueError("the text is too long")
    return result


OPERATORS: dict[type[ast.AST], Callable[..., Any]] = {
    ast.Add: _sum, ast.Sub: operator.sub, ast.Mult: _product, ast.Div: operator.truediv, ast.FloorDiv: operator.floordiv,
    ast.Mod: operator.mod, ast.Pow: _power, ast.USub: operator.neg, ast.UAdd: operator.pos, ast.Not: operator.not_,
    ast.Eq: operator.eq, ast.NotEq: operator.ne, ast.Lt: operator.lt, ast.LtE: operator.le, ast.Gt: operator.gt,
    ast.GtE: operator.ge, ast.In: lambda one, other: one in other, ast.NotIn: lambda one, other: one not in other,
}  # fmt: skip
FUNCTIONS: dict[str, tuple[Callable[..., Any], str]] = {
    "round": (
        lambda value, digits=0: round(value, int(digits)) if digits else float(round(value)),
        "round(number, digits)",
    ),
    "abs": (abs, "abs(number)"),
    "min": (min, "min(a, b, …)"),
    "max": (max, "max(a, b, …)"),
    "int": (int, "int(number), towards zero"),
    "float": (float, "float(number)"),
    "text": (str, "text(value)"),
    "len": (len, "len(text or list)"),
    "lower": (lambda text: str(text).lower(), "lower(text)"),
    "upper": (lambda text: str(text).upper(), "upper(text)"),
}
_NULL_SAFE = frozenset({"first"})


class Formula:
    """A parsed expression over columns. `names` are the columns that it reads."""

    def __init__(self, text: str) -> None:
        self.text = text
        if len(text) > _LONGEST:
            raise BadSetting("bad-formula", f"the expression is longer than {_LONGEST} characters")
        try:
            self._tree = ast.parse(text.strip(), mode="eval").body
        except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
            offset = error.offset - 1 if isinstance(error, SyntaxError) and error.offset else None
            raise BadSetting("bad-formula", f'expression "{text}" cannot be read: {error}', offset=offset) from error
        self.names: set[str] = set()
        self._check(self._tree)

    def _check(self, node: ast.AST) -> None:
        """Raise BadSetting for anything but numbers, texts, columns, OPERATORS and FUNCTIONS."""
        offset = getattr(node, "col_offset", None)
        if isinstance(node, ast.Constant) and isinstance(node.value, int | float | str | bool | None):
            return
        if isinstance(node, ast.Name):
            self.names.add(node.id)
            return
        if isinstance(node, ast.Call):
            if not isinstance(node.func, ast.Name) or node.keywords or node.func.id not in (*FUNCTIONS, *_NULL_SAFE):
                known = ", ".join([said for _, said in FUNCTIONS.values()] + ["first(a, b, …)"])
                raise BadSetting("bad-formula", f'expression "{self.text}": there is no such function', known, offset)
            parts: list[ast.AST] = list(node.args)
        elif isinstance(node, ast.BinOp | ast.UnaryOp) and type(node.op) in OPERATORS:
            parts = [node.left, node.right] if isinstance(node, ast.BinOp) else [node.operand]
        elif isinstance(node, ast.Compare) and all(type(op) in OPERATORS for op in node.ops):
            parts = [node.left, *node.comparators]
        elif isinstance(node, ast.BoolOp):
            parts = list(node.values)
        elif isinstance(node, ast.IfExp):
            parts = [node.test, node.body, node.orelse]
        else:
            what = f'expression "{self.text}": {type(node).__name__} is not part of this arithmetic'
            raise BadSetting(
                "bad-formula",
                what,
                "columns, numbers, texts, + - * / // % **, comparisons, and or not, a if b else c",
                offset,
            )
        for part in parts:
            self._check(part)

    def value(self, row: Mapping[str, Any]) -> Any:
        """The value for a row; None where a column that is used is missing. Raises NotReadable."""
        try:
            value = self._value(self._tree, row)
        except (ArithmeticError, TypeError, ValueError) as error:
            raise NotReadable("formula-failed", f'"{self.text}": {error}') from error
        if isinstance(value, complex):
            raise NotReadable("formula-failed", f'"{self.text}": the root of a negative number')
        return value

    def _value(self, node: ast.AST, row: Mapping[str, Any]) -> Any:
        match node:
            case ast.Constant():
                return node.value
            case ast.Name():
                return row[node.id]
            case ast.BinOp():
                one, other = self._value(node.left, row), self._value(node.right, row)
                return None if one is None or other is None else OPERATORS[type(node.op)](one, other)
            case ast.UnaryOp():
                value = self._value(node.operand, row)
                return None if value is None else OPERATORS[type(node.op)](value)
            case ast.Compare():
                return self._compared(node, row)
            case ast.BoolOp():
                return self._joined(node, row)
            case ast.IfExp():
                test = self._value(node.test, row)
                return None if test is None else self._value(node.body if test else node.orelse, row)
            case ast.Call(func=ast.Name(id=name)):
                values = [self._value(arg, row) for arg in node.args]
                if name == "first":
                    return next((value for value in values if value is not None), None)
                return None if None in values else FUNCTIONS[name][0](*values)
        raise AssertionError(node)

    def _compared(self, node: ast.Compare, row: Mapping[str, Any]) -> bool | None:
        values = [self._value(operand, row) for operand in (node.left, *node.comparators)]
        if None in values:
            return None
        pairs = zip(node.ops, values, values[1:], strict=False)
        return all(OPERATORS[type(op)](one, other) for op, one, other in pairs)

    def _joined(self, node: ast.BoolOp, row: Mapping[str, Any]) -> bool | None:
        """Three-valued: what decides it decides, else a missing part leaves it open."""
        decides = isinstance(node.op, ast.Or)
        values = [self._value(operand, row) for operand in node.values]
        if any(value is not None and bool(value) is decides for value in values):
            return decides
        return None if None in values else not decides
