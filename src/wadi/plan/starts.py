"""The start requests of a plan: its URI Templates (RFC 6570) filled with every combination of the inputs' values."""

from __future__ import annotations

import itertools
import math
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Set
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import unquote, urlsplit

from wadi.plan.local import NoSuchFiles, files_of, is_of_files
from wadi.plan.model import InputFile, InputSecret, InputSequence, InputValue, Plan
from wadi.urls import LOCAL, resolve
from wadi.web.messages import Request
from wadi.web.parameters import expanded, filled, names_in, with_body, written

Scalar = str | int | float | bool
T = TypeVar("T")
SITEMAP, FEED, FILE = "[sitemap]", "[feed]", "[file]"
"""Page kinds of our own, which no plan can name."""


@dataclass(frozen=True, slots=True)
class Start:
    """One start: the kind of its page, what is asked for, and the input values that made it. Making it may raise NotAUrl."""

    kind: str
    request: Request
    inputs: Mapping[str, Scalar]


def variables_of(template: str) -> set[str]:
    """The names that a template uses. Raises ValueError when its braces do not close."""
    import uritemplate

    if template.count("{") != template.count("}"):
        raise ValueError("a brace is not closed")
    return set(uritemplate.variables(template))


def templates_of(plan: Plan) -> list[tuple[str, str]]:
    """Page kind and URI Template of everything that the crawl begins with."""
    start = plan.start
    named = [(SITEMAP, url) for url in start.sitemap] + [(FEED, url) for url in start.feed]
    return [*((start.page, address) for address in start.addresses), *named]


def starts_of(plan: Plan, folder: Path | None = None) -> Iterator[Start]:
    """Every start in reading order: address by address, the last list of inputs varying fastest, then the
    named routes.

    What `split` names is left out of the addresses: those inputs are used by `parts_of` only. Local files are looked for in
    `folder`, where the plan stands; without it they are left out. Raises NoSuchFiles.
    """
    for kind, template in templates_of(plan):
        is_local = is_of_files(template)
        if is_local and folder is None:
            continue
        for values in combinations(plan.inputs, used_in(plan, template) - set(plan.start.split)):
            if is_local and folder is not None:
                paths = files_of(folder, expanded(template, values))
                yield from (Start(kind, Request(path.as_uri()), values) for path in paths)
            else:
                request = _request(plan, kind, template, values)
                yield from (Start(kind, replace(request, route=name), values) for name in route_names(plan) or [""])


def count_starts(plan: Plan, folder: Path) -> Counter[str]:
    """How many starts there are of each kind, without making those of sites. Raises NoSuchFiles."""
    counts: Counter[str] = Counter()
    for kind, template in templates_of(plan):
        used = used_in(plan, template) - set(plan.start.split)
        if is_of_files(template):
            counts[kind] += sum(len(files_of(folder, expanded(template, v))) for v in combinations(plan.inputs, used))
        else:
            counts[kind] += how_many(plan.inputs, used) * max(1, len(route_names(plan)))
    return counts


_NOTED_EVERY = 1000


def noting(coming: Iterable[T], noted: Callable[[int], None]) -> Iterator[T]:
    """What comes, one by one; now and then `noted` hears how many that were."""
    for count, one in enumerate(coming, start=1):
        yield one
        if count % _NOTED_EVERY == 0:
            noted(count)


def route_names(plan: Plan) -> list[str]:
    """The names of a plan's routes, where they have names: each start goes by each of them."""
    return list(plan.manners.routes) if isinstance(plan.manners.routes, dict) else []


def folders_of(plan: Plan, folder: Path) -> frozenset[Path]:
    """The folders of the local files that a plan begins with, which stands in `folder`; none when they are not there any more."""
    if not any(is_of_files(template) for _, template in templates_of(plan)):
        return frozenset()
    try:
        starts = [start.request.url for start in starts_of(plan, folder)]
    except NoSuchFiles:
        return frozenset()
    return frozenset(Path(unquote(urlsplit(url).path)).parent for url in starts if url.startswith(f"{LOCAL}:"))


def parts_of(plan: Plan, url: str, values: Mapping[str, Scalar]) -> list[Start]:
    """The starts that a listing with these input values falls into, by the next of the `split` inputs; none when all are used."""
    name = next((name for name in plan.start.split if name not in values), None)
    of_sites = (address for address in plan.start.addresses if not is_of_files(address))
    template = next((site for site in of_sites if _request(plan, plan.start.page, site, values).url == url), None)
    if name is None or template is None:
        return []
    inner = combinations({name: plan.inputs[name]}, {name})
    whole = [{**values, **chosen} for chosen in inner]
    return [Start(plan.start.page, _request(plan, plan.start.page, template, chosen), chosen) for chosen in whole]


def file_request(url: str) -> Request:
    """The request for a file; what is the same file has the same request."""
    return Request(url.partition("#")[0])


def used_in(plan: Plan, template: str) -> set[str]:
    """The inputs that a start is made from: by its address, by the values of its body, by its header fields."""
    start = plan.start
    typed = typed_in(plan) if template in start.addresses else set()
    return variables_of(template) | names_in(start.values) | names_in(start.headers) | typed


def typed_in(plan: Plan) -> set[str]:
    """The inputs that a browser types on the start pages, or does something else with there."""
    page = plan.page.get(plan.start.page)
    return (
        names_in([*page.browser.do, *page.browser.per_row]) if page is not None and page.browser is not None else set()
    )


def _request(plan: Plan, kind: str, template: str, values: Mapping[str, Scalar]) -> Request:
    start = plan.start
    left_out = set(start.split) - set(values)
    given = {name: value for name, value in values.items() if name not in left_out}
    request = Request(resolve("", expanded(template, given)))
    if kind != start.page:
        return request
    typed = sorted((typed_in(plan) - set(fixed_inputs(plan.inputs))) & set(given))
    if typed:
        request = replace(request, typed=tuple((name, written(given[name])) for name in typed))
    if not (start.post or start.headers):
        return request
    headers = tuple((name, str(filled(text, values))) for name, text in start.headers.items())
    request = replace(request, headers=headers)
    nulls = dict.fromkeys(start.null)
    return with_body(request, start.post, {**filled(start.values, values), **nulls}) if start.post else request


def fixed_inputs(inputs: Mapping[str, InputValue]) -> dict[str, Any]:
    """The inputs that have one value."""
    return {
        name: value
        for name, value in inputs.items()
        if not isinstance(value, list | InputFile | InputSecret | InputSequence)
    }


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
            choices.append([] if isinstance(value, InputFile | InputSecret | InputSequence) else [{name: value}])
        elif name in heads:
            choices.append([_named(name, choice) for choice in value])
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


def ways_in_vain(plan: Plan, gave: Set[str], known: Set[str]) -> dict[str, str]:
    """The page kinds that are not among the known ones although kinds that `gave` something open them, with the ways to them."""
    ways: dict[str, list[str]] = {}
    for name in gave & plan.page.keys():
        for target, link in plan.page[name].open.items():
            if target != plan.start.page and target not in known:
                said = link.at or link.form or ([link.address] if link.address else [])
                ways.setdefault(target, []).extend(f'"{way}"' for way in said)
    return {target: " or ".join(dict.fromkeys(said)) for target, said in ways.items()}
