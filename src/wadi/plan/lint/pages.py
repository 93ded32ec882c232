"""Findings about how listings go on, which links are opened, and what is sent."""

from __future__ import annotations

from collections.abc import Iterator

from wadi.plan.model import AskPlan, NextPlan, OpenPlan, Plan
from wadi.plan.parts import asks_of
from wadi.plan.positions import Path
from wadi.plan.starts import how_many, is_set, variables_of
from wadi.plan.text import Finding, PlanText
from wadi.problems import listed, nearest
from wadi.web.parameters import names_in

MOST_ASKED = 100_000


def nexts(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """A listing goes on in one way, and ends."""
    for page, kind in plan.page.items():
        if kind.next is not None:
            path: Path = ("page", page, "next")
            yield from _way(path, kind.next, text)
            yield from _ends(path, plan, page, kind.next, text)
            yield from _posted(path, plan, page, kind.next, text)
            for name, field in (*kind.next.send.items(), *kind.next.remember.items()):
                if (field.source or "").partition(".")[0] in ("link", "input"):
                    at = (*path, "send" if name in kind.next.send else "remember", name, "from")
                    what = f"next takes nothing from {field.source!r}: it is not on the page"
                    now = f'values = {{ {name} = "{{{(field.source or "").partition(".")[2] or "NAME"}}}" }} sends an input'
                    yield at, text.problem("wrong-value", at, what, now=now)


def _way(path: Path, plan: NextPlan, text: PlanText) -> Iterator[Finding]:
    by_link = [name for name, said in (("at or text", plan.at or plan.text), ("rel", plan.rel)) if said]
    made = [name for name in ("count", "send", "address", "post") if getattr(plan, name)]
    if len(by_link) > 1 or (by_link and made):
        ways = ["link" if name in ("at or text", "rel") and len(by_link) == 1 else name for name in by_link]
        what = f"next mixes {len(ways) + len(made)} methods ({' and '.join([*ways, *made])}); keep one"
        yield path, text.problem("both-keys", path, what, key=True)
    for key in ("only", "skip"):
        if getattr(plan, key) and not (plan.at or plan.text):
            at = (*path, key)
            what = f"{key} is about links, and neither at nor text picks some"
            yield at, text.problem("both-keys", at, what, key=True)
    if not by_link and not plan.count and not plan.send:
        now = 'by a link:  next = "a.next";  by a parameter:  next = { count = { parameter = "page" } }'
        what = "next does not say how the listing goes on"
        yield path, text.problem("missing-key", path, what, key=True, now=now)


def _posted(path: Path, plan: Plan, page: str, following: NextPlan, text: PlanText) -> Iterator[Finding]:
    """A listing that begins with a POST goes on with one."""
    makes = bool(following.count or following.send)
    if page == plan.start.page and plan.start.post and makes and not (following.post or following.address):
        now = f'post = "{plan.start.post}" goes on as it began'
        what = "the listing begins with a POST, and next would ask for its further pages without one"
        yield path, text.problem("missing-key", path, what, key=True, now=now)


def _ends(path: Path, plan: Plan, page: str, following: NextPlan, text: PlanText) -> Iterator[Finding]:
    kind = plan.page[page]
    if following.count and following.count.step == 0:
        at = (*path, "count", "step")
        yield at, text.problem("wrong-value", at, "a step of 0 asks for the same page again and again")
    if following.count and kind.rows is None and not kind.side_by_side:
        at = (*path, "count")
        what = "a counted listing ends with a page without rows, and there are no rows"
        yield at, text.problem("missing-key", at, what, key=True)
    at = (*path, "end_when")
    if following.end_when == "total" and kind.total is None:
        what = 'end_when = "total" needs the total that the page states'
        yield at, text.problem("missing-key", at, what, key=True, now=f'[page.{page}] total = "…"')
    if following.end_when == "total" and (following.at or following.text or following.rel):
        what = "a stated total does not overrule a link that is there"
        yield at, text.problem("both-keys", at, what, key=True, now="end_when goes with count and send")


def asks(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Requests that are made: what their addresses and header fields name, and where their values go."""
    for path, _, asking in asks_of(plan):
        picked = set(asking.send)
        if isinstance(asking, NextPlan):
            picked |= set(asking.remember) | ({asking.count.parameter} if asking.count else set())
        yield from _named(path, plan, asking, picked, text)
        if asking.null and asking.post != "json":
            at = (*path, "null")
            yield (
                at,
                text.problem(
                    "both-keys", at, "null means nothing here", key=True, now='post = "json"  has a body of JSON'
                ),
            )
        if asking.values and not (asking.post or asking.address or asking.send or getattr(asking, "form", None)
                                  or getattr(asking, "count", None)):  # fmt: skip
            at = (*path, "values")
            what = "values are not sent: a link is asked for as it is"
            yield (
                at,
                text.problem("both-keys", at, what, key=True, now='post = "form", an address, or a form takes them'),
            )
        if isinstance(asking, OpenPlan):
            yield from _opening(path, asking, text)


def _named(path: Path, plan: Plan, asking: AskPlan, picked: set[str], text: PlanText) -> Iterator[Finding]:
    named = [((*path, "headers", name), used) for name, value in asking.headers.items() for used in names_in(value)]
    named += [((*path, "values"), used) for used in names_in(asking.values) if used.partition(".")[0] in plan.inputs]
    if asking.address is not None:
        at = (*path, "address")
        try:
            named += [(at, variable) for variable in variables_of(asking.address)]
        except ValueError as error:
            yield at, text.problem("bad-template", at, f"URI Template: {error}")
    for at, name in named:
        if name not in picked and not is_set(plan.inputs, name):
            known = [*picked, *plan.inputs]
            near = nearest(name, known)
            now = f'did you mean "{near}"?' if near else "send picks a value for it, or [inputs] sets it"
            yield at, text.problem("unset-input", at, f'nothing gives "{name}" a value', now=now)
    used = names_in(asking.values) | {wanted for _, wanted in named}
    if how_many(plan.inputs, used) > MOST_ASKED:
        what = f"the inputs make {how_many(plan.inputs, used):,} requests of one page, more than {MOST_ASKED:,}"
        yield (*path, "values"), text.problem("too-many-starts", (*path, "values"), what)


def _opening(path: Path, link: OpenPlan, text: PlanText) -> Iterator[Finding]:
    ways = [name for name, said in (("at", link.at), ("form", link.form), ("address", link.address)) if said]
    if len(ways) > 1:
        what = f"a page is opened in one way, not by {' and by '.join(ways)}"
        yield path, text.problem("both-keys", path, what, key=True)
    if not ways:
        what = f'"{path[-1]}" does not say what leads there'
        yield path, text.problem("missing-key", path, what, key=True, now='at = "…" picks the link')
    for key in ("within", "text", "skip_text"):
        if getattr(link, key) and not link.at:
            at = (*path, key)
            yield at, text.problem("both-keys", at, f"{key} is about links, and at picks none", key=True)


def links(plan: Plan, text: PlanText) -> Iterator[Finding]:
    """Page kinds that are named and missing, or there and never opened."""
    named: list[tuple[Path, str]] = [(("start", "page"), plan.start.page)]
    named += [(("page", page, "open", target), target) for page, kind in plan.page.items() for target in kind.open]
    for path, target in named:
        if target not in plan.page:
            near = nearest(target, plan.page)
            now = f'did you mean "{near}"?' if near else f"page kinds of this plan: {listed(plan.page)}"
            yield (
                path,
                text.problem("unknown-page", path, f'there is no page kind "{target}"', now=now, key=path[0] == "page"),
            )
    opened = {target for _, target in named}
    # A name that is near to a page's means that page: one slip is one mistake.
    meant = {near for target in opened - plan.page.keys() if (near := nearest(target, plan.page))}
    for page in plan.page:
        if page not in opened | meant:
            path = ("page", page)
            yield path, text.problem(
                "unopened-page", path, f'nothing opens page "{page}"', key=True,
                now=f'open it from another page:  [page.….open] {page} = "…";  or begin with it:  [start] page = "{page}"',
            )  # fmt: skip
