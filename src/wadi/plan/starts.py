"""The start URLs of a plan: its URI Templates (RFC 6570) filled with every combination of the inputs' values."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from wadi.plan.model import InputValue

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
    names = [name for name, value in inputs.items() if not isinstance(value, list) or name in used]
    choices = [value if isinstance(value := inputs[name], list) else [value] for name in names]
    for chosen in itertools.product(*choices):
        yield dict(zip(names, chosen, strict=True))


def _written(value: Scalar) -> str:
    return str(value).lower() if isinstance(value, bool) else str(value)
