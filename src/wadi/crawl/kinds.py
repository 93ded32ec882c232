"""Page kinds compiled: expressions, fields, lists, links and what is sent, made ready once, before the first page comes.

Beside the plan's kinds stand three of our own, whose names no plan can use: sitemaps, feeds, and files.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from lxml import etree

from wadi.clean.stages import Stages
from wadi.clean.types import Where
from wadi.page.alike import Alike
from wadi.page.document import Parse
from wadi.page.expressions import Expression, compile_expression
from wadi.page.selectors.match import Matcher
from wadi.page.selectors.shape import Shapes, attributes_of, is_free_of_place
from wadi.page.text import text_of
from wadi.plan.code import Function, guarded
from wadi.plan.columns import recipe_of
from wadi.plan.model import AskPlan, FieldPlan, ListPlan, NextPlan, OpenPlan, PagePlan, Plan
from wadi.plan.parts import opens_from_row
from wadi.plan.starts import AGAIN, FEED, FILE, SITEMAP, combinations, fixed_inputs, variables_of
from wadi.web.parameters import LinkRules, Post, filled, names_in

ROUTE_SOURCES = frozenset({"link", "input"})
"""Sources whose values depend on how a page was reached: filled in when tables are assembled."""


@dataclass(frozen=True)
class Field:
    """A compiled field. `source` is "" for the row, or where else the value comes from, with `detail` (a NAME)."""

    name: str
    plan: FieldPlan
    expressions: tuple[Expression, ...]
    source: str
    detail: str
    stages: Stages
    then: tuple[Expression, ...] = ()

    @cached_property
    def by_route(self) -> bool:
        return self.source in ROUTE_SOURCES

    @property
    def is_file(self) -> bool:
        return self.plan.type == "file"

    @cached_property
    def is_many(self) -> bool:
        return self.plan.many

    @cached_property
    def value_in(self) -> Callable[[etree._Element, Where], Any]:
        """What gives the value in the one element that a plain field picks; None where there is none, Unread where it cannot
        be read. A closure, since it is called for nearly every cell."""
        name, of_raw, of_text = self.plan.attr, self.stages.value_of_raw, self.stages.value_of
        if name is not None:

            def of_attribute(element: etree._Element, where: Where) -> Any:
                raw = element.get(name)
                return None if raw is None else of_raw(raw, where)

            return of_attribute

        def of_element(element: etree._Element, where: Where) -> Any:
            if len(element):
                return of_text(text_of(element), where)
            # An element without a text has the empty one, which may count as missing or not.
            return of_raw(element.text or "", where)

        return of_element

    @cached_property
    def matchers(self) -> tuple[Matcher, ...]:
        """What picks in a row of HTML when the field is as most are: selectors, their text or an attribute, no more."""
        plan = self.plan
        is_more = self.source or plan.under is not None or plan.label or self.then or plan.split is not None
        matchers = tuple(one.matcher for one in self.expressions if one.matcher is not None)
        is_text = plan.take in (None, "text") or plan.attr is not None
        return matchers if is_text and not is_more and len(matchers) == len(self.expressions) else ()


@dataclass(frozen=True)
class Asking:
    """What a request made from a page is made of.

    `variants` are constant values and inputs for each combination of the lists of inputs that are used; `fixed` are the
    inputs of one value.
    """

    address: str | None = None
    post: Post | None = None
    send: tuple[Field, ...] = ()
    headers: tuple[tuple[str, str], ...] = ()
    variants: tuple[tuple[Mapping[str, Any], Mapping[str, Any]], ...] = (({}, {}),)
    fixed: Mapping[str, Any] = field(default_factory=dict)

    @property
    def is_set(self) -> bool:
        """Whether the request is made here, and not by a link that stands on the page."""
        return bool(self.address or self.post or self.send)


@dataclass(frozen=True)
class Next:
    """How a listing goes on: the plan's words, with its expressions compiled."""

    plan: NextPlan
    at: tuple[Expression, ...]
    asking: Asking
    keep: tuple[Field, ...]
    more: tuple[Expression, ...]
    stop: tuple[Expression, ...]
    last: Field | None


@dataclass(frozen=True)
class OpenLink:
    """Which links lead to pages of the kind `target`."""

    target: str
    expressions: tuple[Expression, ...]
    in_rows: bool = False
    only: re.Pattern[str] | None = None
    skip: re.Pattern[str] | None = None
    hosts: frozenset[str] = frozenset()
    within: tuple[Expression, ...] = ()
    text: re.Pattern[str] | None = None
    skip_text: re.Pattern[str] | None = None
    call: Callable[[str, str], Any] | None = None
    form: tuple[Expression, ...] = ()
    asking: Asking = field(default_factory=Asking)


@dataclass(frozen=True)
class ChildRows:
    """A table inside the rows of a page."""

    table: str
    rows: tuple[Expression, ...]
    fields: tuple[Field, ...]
    split: str | None = None

    @property
    def columns(self) -> tuple[str, ...]:
        return tuple(one.name for one in self.fields)

    @cached_property
    def shapes(self) -> Shapes:
        """What its fields pick in rows of one shape."""
        return Shapes([one.matchers for one in self.fields])


@dataclass(frozen=True)
class Kind:
    """A compiled page kind. `table` is the table that its rows go to, `completes` tells that they complete others."""

    name: str
    parse: Parse | None = None
    expect: tuple[Expression, ...] = ()
    empty: tuple[Expression, ...] = ()
    rows: tuple[Expression, ...] = ()
    table: str | None = None
    completes: bool = False
    fields: tuple[Field, ...] = ()
    total: Field | None = None
    next: Next | None = None
    open: tuple[OpenLink, ...] = ()
    lists: tuple[ChildRows, ...] = ()
    lost: tuple[Expression, ...] = ()
    links: LinkRules = field(default_factory=LinkRules)
    sheet: str | None = None
    header: int | None = None
    side_by_side: bool = False

    @property
    def is_leaf(self) -> bool:
        """Whether such a page leads nowhere."""
        return self.next is None and not self.open and not self.file_columns

    @cached_property
    def reads(self) -> set[str]:
        """The kinds of documents that the page's own expressions read: "tree", "json", "any"."""
        own = [*self.expect, *self.empty, *self.rows]
        own += [e for f in self.fields if f.source in ("", "page") for e in f.expressions]
        return {expression.reads for expression in own}

    @cached_property
    def columns(self) -> tuple[str, ...]:
        return tuple(one.name for one in self.fields)

    @cached_property
    def shapes(self) -> Shapes:
        """What its fields pick in rows of one shape."""
        return Shapes([one.matchers for one in self.fields])

    @cached_property
    def alike(self) -> Alike | None:
        """What reads rows that are alike from the source, where nothing else on the page depends on those."""
        has_more = self.open or self.lists or self.side_by_side or self.file_columns or not (self.rows and self.table)
        asked = self._asked_of_pages()
        if has_more or asked is None or not any(map(self.shapes.tells, range(len(self.fields)))):
            return None
        for place, one in enumerate(self.fields):
            is_told = self.shapes.tells(place) or one.by_route or one.source in ("url", "header")
            if not is_told or one.stages.recipe.calls:
                return None
        return Alike(self.shapes, [one.plan.attr for one in self.fields], asked)

    def _asked_of_pages(self) -> set[str] | None:
        """The attributes that the selectors of the whole page ask for; None where what they pick may depend on how many rows
        stand there, or in which order."""
        following = self.next
        if following is not None and (following.asking.send or following.keep):
            return None
        numbers = [one for one in (self.total, following.last if following else None) if one is not None]
        if not all(one.matchers for one in numbers):
            return None
        stops = following.stop if following is not None else ()
        every = [*self.rows, *self.expect, *self.empty, *self.lost, *stops, *self.looked_for_once]
        selectors = [one for e in every for one in (e.matcher.selectors if e.matcher is not None else ())]
        if any(e.matcher is None for e in every) or not all(map(is_free_of_place, selectors)):
            return None
        return {name for one in selectors for name in attributes_of(one)}

    @cached_property
    def looked_for_once(self) -> tuple[Expression, ...]:
        """The expressions of the whole page of which it counts what they pick, and not only whether."""
        following = self.next
        numbers = [one for one in (self.total, following.last if following else None) if one is not None]
        links = [*following.at, *following.more] if following is not None else []
        return (*(e for one in numbers for e in one.expressions), *links)

    @cached_property
    def file_columns(self) -> frozenset[str]:
        """The columns of type file, of the rows and of the lists in them."""
        lists = [one.name for child in self.lists for one in child.fields if one.is_file]
        return frozenset([*(one.name for one in self.fields if one.is_file), *lists])


def compile_kinds(plan: Plan, *, this_year: int, functions: Mapping[str, Function] | None = None) -> dict[str, Kind]:
    """Every page kind of a plan that lint found right, by name, and our own."""
    maker = _Maker(plan, this_year, functions or {})
    kinds = {name: maker.kind(name, page) for name, page in plan.page.items()}
    again = [kind for kind in kinds.values() if kind.next is not None and kind.next.plan.reread]
    kinds |= {
        AGAIN + kind.name: replace(kind, name=AGAIN + kind.name, next=None, open=(), total=None) for kind in again
    }
    kinds[FILE] = Kind(FILE)
    if plan.start.sitemap:
        kinds[SITEMAP] = maker.sitemap()
    if plan.start.feed:
        kinds[FEED] = maker.feed()
    return kinds


def compile_field(
    name: str, field: FieldPlan, this_year: int, functions: Mapping[str, Function] | None = None
) -> Field:
    """A field with its expressions and stages."""
    source, _, detail = (field.source or "").partition(".")
    stages = Stages(recipe_of(field, this_year=this_year, functions=functions))
    return Field(name, field, compiled(field.at), source, detail, stages, compiled(field.then))


def compiled(expressions: list[str] | None) -> tuple[Expression, ...]:
    """Expressions ready for use."""
    return tuple(compile_expression(text) for text in expressions or ())


def patterns(texts: list[str], *, folded: bool = False) -> re.Pattern[str] | None:
    """One expression for all patterns of `*` and `?`; None when there is none."""
    if not texts:
        return None
    return re.compile("|".join(fnmatch.translate(text.casefold() if folded else text) for text in texts))


class _Maker:
    """Makes kinds of one plan."""

    def __init__(self, plan: Plan, this_year: int, functions: Mapping[str, Function]) -> None:
        self._plan = plan
        self._year = this_year
        self._functions = functions
        self._rules = LinkRules(tuple(plan.links.drop), plan.links.sort)
        self._lost = compiled(plan.login.lost if plan.login else None)

    def kind(self, name: str, page: PagePlan) -> Kind:
        return Kind(
            name=name,
            parse=page.parse,
            expect=compiled(page.expect),
            empty=compiled(page.empty),
            rows=compiled(page.rows),
            table=page.table or page.completes,
            completes=page.completes is not None,
            fields=self._fields(page.fields),
            total=self._number("total", page.total),
            next=self._next(page.next) if page.next else None,
            open=tuple(self._open(page, target, link) for target, link in page.open.items()),
            lists=tuple(self._list(one, child) for one, child in page.lists.items()),
            lost=self._lost,
            links=self._rules,
            sheet=page.sheet,
            header=page.header,
            side_by_side=page.side_by_side,
        )

    def _fields(self, fields: Mapping[str, FieldPlan]) -> tuple[Field, ...]:
        return tuple(compile_field(name, field, self._year, self._functions) for name, field in fields.items())

    def _number(self, name: str, field: FieldPlan | None) -> Field | None:
        """A field of the page that is an integer whatever the plan says or leaves out."""
        return compile_field(name, field.model_copy(update={"type": "integer"}), self._year) if field else None

    def _list(self, name: str, child: ListPlan) -> ChildRows:
        return ChildRows(child.table or name, compiled(child.rows), self._fields(child.fields), child.split)

    def _next(self, plan: NextPlan) -> Next:
        at = plan.at or (["a"] if plan.text else None)
        return Next(
            plan,
            compiled(at),
            self._asking(plan),
            self._fields(plan.keep),
            compiled(plan.more),
            compiled(plan.stop),
            self._number("last", plan.last),
        )

    def _open(self, page: PagePlan, target: str, link: OpenPlan) -> OpenLink:
        return OpenLink(
            target,
            compiled(link.at),
            opens_from_row(self._plan, page, target),
            patterns(link.only),
            patterns(link.skip),
            frozenset(link.hosts),
            compiled(link.within),
            patterns(link.text, folded=True),
            patterns(link.skip_text, folded=True),
            guarded(link.call, self._functions[link.call]) if link.call else None,
            compiled(link.form),
            self._asking(link),
        )

    def _asking(self, plan: AskPlan) -> Asking:
        """What is sent, with the values of inputs put in: one variant for each combination of the lists that are used."""
        inputs = self._plan.inputs
        fixed = fixed_inputs(inputs)
        used = names_in(plan.values) | (variables_of(plan.address) if plan.address else set())
        lists = {name: value for name, value in inputs.items() if name not in fixed and _is_used(name, used)}
        variants = tuple((filled(plan.values, {**fixed, **one}), one) for one in combinations(lists, used))
        headers = tuple(plan.headers.items())
        return Asking(plan.address, plan.post, self._fields(plan.send), headers, variants, fixed)

    def _start_link(self, *expressions: str) -> OpenLink:
        start = self._plan.start
        return OpenLink(start.page, compiled(list(expressions)), only=patterns(start.only), skip=patterns(start.skip))

    def sitemap(self) -> Kind:
        """A sitemap (sitemaps.org protocol 0.9) or its index, packed or not; a text of one URL a line; a robots.txt."""
        pages = self._start_link("//urlset/url/loc", r"re:(?m)^\s*(https?://\S+)\s*$")
        inner = tuple(
            OpenLink(SITEMAP, compiled([expression]), hosts=frozenset("*"))
            for expression in ("//sitemapindex/sitemap/loc", r"re:(?mi)^\s*sitemap\s*:\s*(\S+)")
        )
        expect = compiled(["//urlset | //sitemapindex", "re:https?://"])
        return Kind(SITEMAP, expect=expect, open=(*inner, pages), links=self._rules)

    def feed(self) -> Kind:
        """An RSS feed (0.9x to 2.0 and 1.0) or an Atom feed (RFC 4287): the links of its items."""
        items = "//item/link | //entry/link[not(@rel) or @rel='alternate'][1]/@href"
        return Kind(
            FEED, expect=compiled(["//rss | //channel | //feed"]), open=(self._start_link(items),), links=self._rules
        )


def _is_used(name: str, used: set[str]) -> bool:
    return any(one == name or one.startswith(f"{name}.") for one in used)
