"""The start URLs of a plan: its URI Templates (RFC 6570) filled with every combination of the inputs' values."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from wadi.plan.model import InputFile, InputValue

Scalar = str | int | float | bool


@dataclass(frozen=True, slots=True)
class Start:
    """One start address and the input values that made it."""

    url: str
    inputs: Mapping[str, Scalar]


def variables_of(template: str) -> set[str]:
    """The names that a template uses. Raises ValueError when its braces do not close."""
    import uritemplate

    if template.count("{") != template.count("}"):
        raise ValueError("a brace is not closed")
    return set(uritemplate.variables(template))


def starts_of(addresses: list[str], inputs: Mapping[str, InputValue]) -> Iterator[Start]:
    """Every start in reading order: address by address, the last list of inputs varying fastest, each URL once."""
    import uritemplate

    seen: set[str] = set()
    for address in addresses:
        for values in combinations(inputs, variables_of(address)):
            url = uritemplate.expand(address, {name: _written(value) for name, value in values.items()})
            if url not in seen:
                seen.add(url)
                yield Start(url, values)


def combinations(inputs: Mapping[str, InputValue], used: set[str]) -> Iterator[dict[str, Scalar]]:
    """The values of all inputs: lists that are used give one combination for each value, others stay out."""
    for chosen in itertools.product(*_choices(inputs, used)):
        yield {name: value for values in chosen for name, value in values.items()}


def how_many(inputs: Mapping[str, InputValue], used: set[str]) -> int:
    """How many combinations there are, without making them."""
    return math.prod(len(choice) for choice in _choices(inputs, used))


def _choices(inputs: Mapping[str, InputValue], used: set[str]) -> list[list[dict[str, Scalar]]]:
    """The values of each input that is used, as names and values: `place.slug` and `place.name` for the rows of a file."""
    heads = {name.partition(".")[0] for name in used}
    choices: list[list[dict[str, Scalar]]] = []
    for name, value in inputs.items():
        if not isinstance(value, list):
            choices.append([] if isinstance(value, InputFile) else [{name: value}])
        elif name in heads:
            choices.append([_named(name, one) for one in value])
    return choices


def _named(name: str, value: Scalar | dict[str, str]) -> dict[str, Scalar]:
    return {f"{name}.{column}": cell for column, cell in value.items()} if isinstance(value, dict) else {name: value}


def is_set(inputs: Mapping[str, InputValue], name: str) -> bool:
    """Whether an input, or a column of one (`place.slug`), has a value."""
    head, _, column = name.partition(".")
    value = inputs.get(head)
    if isinstance(value, list) and value and isinstance(value[0], dict):
        return column in value[0]
    return value is not None and not column


def _written(value: Scalar) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)
