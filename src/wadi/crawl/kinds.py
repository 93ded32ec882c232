"""Page kinds compiled: expressions, fields, lists, links and what is sent, made ready once, before the first page comes.

Beside the plan's kinds stand three of our own, whose names no plan can use: sitemaps, feeds, and files.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property, partial
from typing import Any

from wadi.page.document import Parse
from wadi.page.expressions import Expression, for_browser
from wadi.page.field import Field
from wadi.plan.code import Function, guarded
from wadi.plan.fields import compile_field, compiled
from wadi.plan.model import AskPlan, BrowserPlan, FieldPlan, ListPlan, NextPlan, OpenPlan, PagePlan, Plan
from wadi.plan.parts import fields_of, opens_from_row, row_key
from wadi.plan.starts import FEED, FILE, SITEMAP, combinations, fixed_inputs, variables_of
from wadi.web.messages import Request
from wadi.web.parameters import LinkRules, Post, filled, names_in, written
from wadi.web.rendering import Rendering, Step, script_of, step_of
from wadi.web.secrets import mark_of


@dataclass(frozen=True)
class RequestSpec:
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
    asking: RequestSpec
    keep: tuple[Field, ...]
    more: tuple[Expression, ...]
    stop: tuple[Expression, ...]
    last: Field | None
    only: re.Pattern[str] | None = None
    skip: re.Pattern[str] | None = None

    @property
    def goes_by_link(self) -> bool:
        """Whether a link on the page leads to the next one."""
        return bool(self.at or self.plan.rel) and self.plan.count is None and not self.asking.is_set


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
    asking: RequestSpec = field(default_factory=RequestSpec)
    where: tuple[Expression, ...] = ()


@dataclass(frozen=True)
class ChildRows:
    """A table inside the rows of a page."""

    table: str
    rows: tuple[Expression, ...]
    fields: tuple[Field, ...]
    split: str | None = None

    @property
    def columns(self) -> tuple[str, ...]:
        return tuple(spec.name for spec in self.fields)


@dataclass(frozen=True)
class Call:
    """The function that reads pages of a kind, and its name; the kinds that the pages open, those of them that complete their
    rows, the keys that its rows may have (None: any), and whether a page itself completes a row."""

    name: str
    function: Function
    opened: frozenset[str]
    opened_from_rows: frozenset[str]
    keys: frozenset[str] | None
    completes: bool


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
    heading_line: int | None = None
    side_by_side: bool = False
    says_referer: bool = False
    rendering: Rendering | None = None
    data_from: re.Pattern[str] | None = None
    data_sent: re.Pattern[str] | None = None
    call: Call | None = None

    def shown(self, request: Request) -> Request:
        """The request for a page of this kind: with how a browser shows it, where one does."""
        if self.rendering is None:
            return request
        inputs, rendering = dict(request.typed), self.rendering
        if inputs:
            steps = tuple(with_inputs(step, inputs) for step in rendering.steps)
            per_row = tuple(with_inputs(step, inputs) for step in rendering.per_row)
            rendering = replace(rendering, steps=steps, per_row=per_row)
        return replace(request, rendering=rendering)

    @property
    def is_leaf(self) -> bool:
        """Whether such a page leads nowhere."""
        goes_on = self.next is not None or (self.rendering is not None and self.rendering.next is not None)
        return not goes_on and not self.open and not self.file_columns

    @cached_property
    def reads(self) -> set[str]:
        """The kinds of documents that the page's own expressions read: "tree", "json", "any"."""
        every = [*self.expect, *self.empty, *self.rows]
        every += [e for f in self.fields if f.source in ("", "page") for e in f.expressions]
        return {expression.reads for expression in every}

    @cached_property
    def may_take_long(self) -> bool:
        """Whether it has a function of the analyst's, or expressions whose work may grow with the square of a page, and more:
        XPath, and `:has()`."""
        if self.call is not None:
            return True
        fields = [*self.fields, *(spec for child in self.lists for spec in child.fields)]
        every = [*self.expect, *self.empty, *self.lost, *self.rows, *(e for spec in fields for e in spec.expressions)]
        every += [e for child in self.lists for e in child.rows]
        return any(expression.language == "xpath" or ":has(" in expression.text for expression in every)

    @cached_property
    def columns(self) -> tuple[str, ...]:
        return tuple(spec.name for spec in self.fields)

    @cached_property
    def file_columns(self) -> frozenset[str]:
        """The columns of type file, of the rows and of the lists in them."""
        lists = [spec.name for child in self.lists for spec in child.fields if spec.is_file]
        return frozenset([*(spec.name for spec in self.fields if spec.is_file), *lists])


def compile_kinds(
    plan: Plan,
    *,
    this_year: int,
    functions: Mapping[str, Function] | None = None,
    scripts: Mapping[str, str] | None = None,
) -> dict[str, Kind]:
    """Every page kind of a plan that lint found right, by name, and our own. `scripts` are those that a browser is to run, by
    their files; whoever asks for no page needs none."""
    maker = _Compiler(plan, this_year, functions or {}, scripts or {})
    kinds = {name: maker.kind(name, page) for name, page in plan.page.items()}
    kinds[FILE] = Kind(FILE)
    if plan.start.sitemap:
        kinds[SITEMAP] = maker.sitemap()
    if plan.start.feed:
        kinds[FEED] = maker.feed()
    return kinds


def with_inputs(step: Step, inputs: Mapping[str, Any]) -> Step:
    """A step with `{NAME}` in its arguments replaced by inputs."""
    return replace(step, arguments=tuple(written(filled(said, inputs)) for said in step.arguments))


LOGIN_USER, LOGIN_PASSWORD = "login.user", "login.password"
"""The names of the secrets that a log-in in a browser types."""


def login_rendering(plan: Plan) -> Rendering:
    """How a browser shows the page of a log-in, and what it does there."""
    assert plan.login is not None
    inputs = {**fixed_inputs(plan.inputs), "user": mark_of(LOGIN_USER), "password": mark_of(LOGIN_PASSWORD)}
    return Rendering(steps=_steps_of(plan.login.do, inputs))


def _steps_of(
    sentences: list[str], inputs: Mapping[str, Any], scripts: Mapping[str, str] | None = None
) -> tuple[Step, ...]:
    """Sentences as a browser does them: with inputs put in, expressions as it takes them, and the scripts that they run."""
    steps = []
    for sentence in sentences:
        step = with_inputs(step_of(sentence), inputs)
        if step.expression:
            step = step.about(for_browser(step.expression))
        if step.verb == "run":
            name = step.arguments[0]
            step = replace(step, script=script_of(name, (scripts or {}).get(name, "")))
        steps.append(step)
    return tuple(steps)


def patterns(texts: list[str], *, folded: bool = False) -> re.Pattern[str] | None:
    """One expression for all patterns of `*` and `?`; None when there is none."""
    if not texts:
        return None
    return re.compile("|".join(fnmatch.translate(text.casefold() if folded else text) for text in texts))


class _Compiler:
    """Makes kinds of one plan."""

    def __init__(
        self, plan: Plan, this_year: int, functions: Mapping[str, Function], scripts: Mapping[str, str]
    ) -> None:
        self._plan = plan
        self._year = this_year
        self._functions = functions
        self._scripts = scripts
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
            lists=tuple(self._list(key, child) for key, child in page.lists.items()),
            lost=self._lost,
            links=self._rules,
            sheet=page.sheet,
            heading_line=0 if page.heading_line == "none" else page.heading_line,
            side_by_side=page.side_by_side,
            says_referer=self._plan.manners.referer,
            rendering=self._rendering(page.browser, page) if page.browser is not None else None,
            data_from=patterns(page.browser.data_from) if page.browser is not None else None,
            data_sent=patterns([page.browser.data_sent]) if page.browser and page.browser.data_sent else None,
            call=self._call(page),
        )

    def _call(self, page: PagePlan) -> Call | None:
        if page.call is None:
            return None
        completing = frozenset(target for target in page.open if opens_from_row(self._plan, page, target))
        by_key = {name for name, field in page.fields.items() if field.at == row_key(name)}
        others = any(field.at and field.source is None for name, field in page.fields.items() if name not in by_key)
        keys = None if others or page.lists else completing | by_key
        return Call(page.call, self._functions[page.call], frozenset(page.open), completing, keys, bool(page.completes))

    def _rendering(self, plan: BrowserPlan, page: PagePlan) -> Rendering:
        steps_of = partial(_steps_of, inputs=fixed_inputs(self._plan.inputs), scripts=self._scripts)
        do = steps_of(plan.do)
        of_rows = plan.per_row or any(step.count is not None for step in do) or (plan.next and not plan.data_from)
        width, height = map(int, plan.size.split("x"))
        return Rendering(
            wait=tuple(map(for_browser, plan.wait or ())),
            least=plan.least,
            gone=tuple(map(for_browser, plan.gone or ())),
            quiet_s=plan.quiet,
            within_s=plan.within,
            size=(width, height),
            language=plan.language,
            zone=plan.zone,
            steps=do,
            rows=tuple(map(for_browser, page.rows or ())) if of_rows else (),
            per_row=steps_of(plan.per_row),
            next=steps_of([plan.next])[0] if plan.next is not None else None,
            properties=tuple(
                dict.fromkeys(field.property for _, field, _ in fields_of("", page) if field.property is not None)
            ),
            dark=plan.dark,
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
            self._fields(plan.remember),
            compiled(plan.end_unless),
            compiled(plan.end_at),
            self._number("end_page", plan.end_page),
            patterns(plan.only),
            patterns(plan.skip),
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
            compiled(link.where),
        )

    def _asking(self, plan: AskPlan) -> RequestSpec:
        """What is sent, with the values of inputs put in: one variant for each combination of the lists that are used."""
        inputs = self._plan.inputs
        fixed = fixed_inputs(inputs)
        used = names_in(plan.values) | (variables_of(plan.address) if plan.address else set())
        lists = {name: value for name, value in inputs.items() if name not in fixed and _is_used(name, used)}
        nulls = dict.fromkeys(plan.null)
        variants = tuple(
            (filled(plan.values, {**fixed, **combination}) | nulls, combination)
            for combination in combinations(lists, used)
        )
        headers = tuple(plan.headers.items())
        return RequestSpec(plan.address, plan.post, self._fields(plan.send), headers, variants, fixed)

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
    return any(column == name or column.startswith(f"{name}.") for column in used)
