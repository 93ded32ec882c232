"""How a listing goes on: next links, page numbers, `rel=next`, the total that the page states, cursors and flags in JSON."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from itertools import islice
from urllib.parse import parse_qsl, urlsplit

from wadi.clean.errors import NotReadable
from wadi.clean.numbers import integer_reader
from wadi.clean.text import tidied
from wadi.crawl.paging import header_next
from wadi.learn.clues.class_names import PLAIN_NAME, tokens
from wadi.learn.clues.selectors import expression_for
from wadi.learn.clues.toml_text import quoted
from wadi.learn.first_look.envelope import OWN_PAGE, envelope_of
from wadi.learn.first_look.outline import json_rows
from wadi.page.document import Document
from wadi.page.expressions import compile_expression
from wadi.page.nodes import Element, ancestors, attributes, children, elements, following, parent, preceding
from wadi.page.text import text_of
from wadi.urls import NotAUrl
from wadi.web.messages import Reply

# Words for "next" and "more" on buttons, in the languages of many sites; arrows count when they are all there is.
_NEXT = re.compile(
    r"^(?:next(?: page| results)?|older(?: posts| entries)?|more(?: results)?|(?:load|show|view|see) (?:more|next).*|continue"
    r"|suivante?s?|page suivante|plus|weitere?.*|nächste.*|vor|ältere.*|mehr.*|siguiente.*|más.*|próxim[ao].*|seguinte.*|mais.*"
    r"|successiv[ao].*|avanti|altri.*|volgende.*|meer.*|nästa.*|næste.*|neste.*|seuraava.*|następn[ay].*|dalej|další.*|następne"
    r"|следующ\w*.*|далее|ещё|наступн\w*.*|επόμεν\w*.*|sonraki.*|次.*|下一页|下一頁|다음.*|التالي|הבא)\s*[›»→>▸]*$|^[›»→>▸]+$",
    re.IGNORECASE,
)
_MORE = re.compile(
    r"^(?:(?:load|show|view|see) (?:more|next|all)|more\b|mehr|plus|más|mais|meer|ещё|もっと)", re.IGNORECASE
)
_TOTAL = re.compile(
    r"(?:\b(?:of|von|sur|de|di|van|av|из|z|op)\s+(?:about\s+|ca\.?\s+|over\s+)?(?P<of>\d[\d.,'’\s\u00a0\u202f]*\d|\d+))"
    r"|(?P<count>\d[\d.,'’\u00a0\u202f]*\d|\d+)\s+(?:results?|records?|entries|items?|rows?|hits?|matches|documents?|products?"
    r"|Treffer|Ergebnisse|résultats|resultados|risultati|resultaten|springs?|total)\b",
    re.IGNORECASE,
)
# Before "of N" there is a range, or the whole text is "30 of 354": dates and versions have such words too.
_COUNTED = re.compile(
    r"\d\s*(?:–|—|-|to|bis|à|a)\s*\d[\d.,\s\u00a0]*\s\D{1,5}\s|^\D*\d[\d,\s\u00a0]*\s\D{1,5}\s*\d[\d.,\s\u00a0]*$"
)
_NONE_OF = re.compile(r"\D*\b0\b")
"""Before "of N", what is counted is something else: "0 of 50 selected"."""
_NO_TOTAL = frozenset({"script", "style", "title", "option", "a", "head", "html", "body"})
_NUMBER = re.compile(r"^\[?\d{1,5}\]?$")
_PATH = "/"
_BY_RELATION = 'next = { rel = "next" }'


_TOTAL_FIELDS = re.compile(r"(?:x-)?(?:total|count|total-\w+)", re.IGNORECASE)
_NEXT_FIELDS = re.compile(r"(?:x-)?next-?(?:page|url|link)?", re.IGNORECASE)
_OTHER_FIELDS = re.compile(
    r"(?:x-)?(?:page|per-page|total-pages|page-count|pagination|content-range|offset|limit)", re.IGNORECASE
)
"""Names of header fields by which services tell how a listing goes on."""


@dataclass(frozen=True, slots=True)
class Paging:
    """One way in which a page goes on, or the total that it states.

    `how` is "next link", "rel=next", "Link header", "header field", "page numbers", "load more", "stated total", or of JSON
    "next URL", "cursor", "next page", "page", "pages", "size", "offset", "flag"; `expression` picks it, `value` is what stands
    there, `plan` is what a plan would say.
    """

    how: str
    expression: str
    value: str
    plan: str = ""


def paging_of(document: Document, reply: Reply | None = None, rows: Collection[Element] = ()) -> list[Paging]:
    """Everything that says how the page goes on, the surest first. What stands inside `rows` is no total of the page."""
    found = [*_link_header(reply, document), *_header_fields(reply)] if reply is not None else []
    if document.kind == "json":
        return [*found, *_in_json(document, reply)]
    if document.kind != "html":
        return found
    return [
        *found,
        *_rel_next(document),
        *_next_links(document),
        *_page_numbers(document),
        *_buttons(document),
        *_in_the_address(reply),
        *_totals(document, rows),
    ]


def _link_header(reply: Reply, document: Document) -> Iterator[Paging]:
    if (target := header_next(reply)) is not None:
        yield Paging("Link header", "rel=next", _absolute(target, document), _BY_RELATION)


def _header_fields(reply: Reply) -> Iterator[Paging]:
    """What further header fields say: the next page by its URL or its number, the total, and what a plan has no use for."""
    for name, value in reply.headers:
        said, plan = f"{name}: {value}", ""
        if _NEXT_FIELDS.fullmatch(name) and value.strip():
            is_url = value.startswith(("http:", "https:", "/"))
            sent = f'{{ from = "header.{name}" }}'
            plan = (
                f'next = {{ address = "{{+url}}", send = {{ url = {sent} }} }}'
                if is_url
                else f"next = {{ send = {{ page = {sent} }} }}"
            )
        elif _OTHER_FIELDS.fullmatch(name):
            pass
        elif _TOTAL_FIELDS.fullmatch(name) and value.strip().isdecimal():
            plan = f'total = {{ from = "header.{name}" }}'
        else:
            continue
        yield Paging("header field", f"header.{name}", said, plan)


def _rel_next(document: Document) -> Iterator[Paging]:
    for element in elements(document.top, "link", "a"):
        if "next" in (element.attr("rel") or "").lower().split() and element.attr("href"):
            expression = f'{element.tag}[rel="{element.attr("rel")}"]'
            yield Paging("rel=next", expression, _absolute(element.attr("href") or "", document), _BY_RELATION)
            return


def _next_links(document: Document) -> Iterator[Paging]:
    for link in elements(document.top, "a"):
        said, (unsaid, by_attribute) = text_of(link), _unsaid(link)
        text = said or tidied(unsaid)
        if len(text) > 40 or not _NEXT.match(text.strip(" ‹«←<[](){}|")) or not link.attr("href"):
            continue
        words = re.sub(r"\s*[›»→>▸]+$", "", text)
        if not said:
            way = quoted(by_attribute)
        elif words:
            upper = _container(document, link)
            where = f"at = {quoted(upper)}, " if upper and not _IS_PLACE.search(upper) else ""
            way = f"{{ {where}text = {quoted(words)} }}"
        else:  # of links that a text picks, arrows do not count
            way = quoted(f'//a[normalize-space()="{text}"]')
        expression = expression_for(document, [link], [])[0] or "a"
        value = f"{text} → {_absolute(link.attr('href') or '', document)}"
        yield Paging("next link", by_attribute or expression, value, f"next = {way}")
        return


_IS_PLACE = re.compile(r":nth-|^body > ")


def _unsaid(link: Element) -> tuple[str, str]:
    """What a link without a text is called, and the expression that picks it by that."""
    for element, name in ((link, "aria-label"), (link, "title"), *((image, "alt") for image in elements(link, "img"))):
        value = element.attr(name) or ""
        if value.strip() and '"' not in value and "\\" not in value:
            test = f'[{name}="{value}"]'
            return value, f"a{test}" if element == link else f"a:has(img{test})"
    return "", ""


def _container(document: Document, link: Element) -> str:
    """A short expression for the links beside this one."""
    above = parent(link)
    links = children(above, "a") if above is not None else []
    expression, _ = expression_for(document, links, []) if links else (None, [])
    return expression or ""


def _page_numbers(document: Document) -> Iterator[Paging]:
    """The run of links whose texts are numbers of pages, with the parameter or the part of the path that counts."""
    found: list[list[Element]] = []
    for holder in elements(document.top):
        if not 1 < len(children(holder)) < 60 or not _is_small(holder, 150):
            continue
        links = [a for a in elements(holder, "a") if _NUMBER.match(text_of(a))]
        if len(links) >= 2 and len(text_of(holder)) < 300:
            found.append(links)
    best = max(found, key=lambda links: (_counts_pages(links, document), len(links)), default=[])
    if not best or not _counts_pages(best, document):
        return
    numbers = [int(text_of(link).strip("[]")) for link in best]
    by_number = {
        number: _absolute(link.attr("href") or "", document)
        for number, link in zip(numbers, best, strict=True)
        if link.attr("href")
    }
    counting = _counting(list(by_number.values()))
    expression, _ = expression_for(document, best, [])
    value = f"{numbers[0]} … {max(numbers)}" + (f", by {_words(counting)}" if counting else "")
    behind = _behind_current(document, best)
    plan = f"next = {quoted(behind)}" if behind else _counted(by_number, counting)
    yield Paging("page numbers", expression or "", value, plan)


def _behind_current(document: Document, links: list[Element]) -> str:
    """An expression for the link of the page behind the current one: its number stands between those of the others, and is no
    link, or marked as the current one. Empty where none is told apart so."""
    items = _items_of(links)
    if items is None:
        return ""
    current = [item for item in items if _is_current(item)]
    after = next(following(current[0]), None) if len(current) == 1 else None
    if after is None:
        return ""
    link = next((a for a in elements(after, "a") if a.attr("href")), None)
    if link is None or not _NUMBER.match(text_of(link)):
        return ""
    step = after.tag if after == link else f"{after.tag} a"
    holder = parent(current[0])
    around = expression_for(document, [holder], [])[0]
    near = "" if around is None or _IS_PLACE.search(around) else f"{around} > "
    for mark in _marks_of(current[0]):
        for before in ("", near):
            expression = f"{before}{mark} + {step}"
            if compile_expression(expression).nodes(document.scope, document)[:1] == [link]:
                return expression
    return ""


def _items_of(links: list[Element]) -> list[Element] | None:
    """The siblings that numbers of pages stand in, the current one among them; None where they are no siblings."""
    for depth in range(3):
        tops = [next(islice([link, *ancestors(link)], depth, None), None) for link in links]
        holder = parent(tops[0]) if tops[0] is not None else None
        if holder is not None and all(top is not None and parent(top) == holder for top in tops):
            return [item for item in children(holder) if _NUMBER.match(text_of(item))]
    return None


def _is_current(item: Element) -> bool:
    inner = list(elements(item))
    return any(e.attr("aria-current") for e in inner) or not any(e.tag == "a" and e.attr("href") for e in inner)


def _marks_of(item: Element) -> Iterator[str]:
    """What tells the current number from the others: what it is marked as, a class, its tag, that it has no link."""
    if item.attr("aria-current"):
        yield "[aria-current]"
    beside = [*preceding(item), *following(item)]
    theirs = {token for other in beside for token in tokens(other)}
    yield from (f"{item.tag}.{t}" for t in tokens(item) if t not in theirs and PLAIN_NAME.match(t))
    if all(other.tag != item.tag for other in beside):
        yield item.tag
    if next(elements(item, "a"), None) is None:
        yield f"{item.tag}:not(:has(a))"
    if any(e.attr("aria-current") for e in elements(item)):
        yield f"{item.tag}:has([aria-current])"


def _counted(by_number: dict[int, str], counting: str) -> str:
    """A counted parameter, or a counted part of the path; empty where the addresses do not count in even steps."""
    if not counting or len(by_number) < 2:
        return ""
    if counting != _PATH:
        values = [
            dict(parse_qsl(urlsplit(a).query, keep_blank_values=True)).get(counting, "") for a in by_number.values()
        ]
        first_and_step = _even(list(by_number), values)
        if first_and_step is None:
            return ""
        first, step = first_and_step
        said = [f"parameter = {quoted(counting)}"]
        said += [f"first = {first}"] if first != 1 else []
        said += [f"step = {step}"] if step != 1 else []
        return f"next = {{ count = {{ {', '.join(said)} }} }}"
    (one, first_path), (other, second_path) = islice(((n, urlsplit(a).path) for n, a in by_number.items()), 2)
    template = re.sub(rf"(?<!\d){one}(?!\d)", "{page}", first_path)
    if template.count("{page}") != 1 or template.replace("{page}", str(other)) != second_path:
        return ""
    return f'next = {{ address = {quoted(template)}, count = {{ parameter = "page" }}, end_status = 404 }}'


def _even(numbers: list[int], values: list[str]) -> tuple[int, int] | None:
    """The value of the first page and the step, where values go up evenly with the numbers of pages."""
    if not all(value.isdecimal() for value in values):
        return None
    (one, other), (low, high) = numbers[:2], (int(value) for value in values[:2])
    step, rest = divmod(high - low, other - one)
    first = low - (one - 1) * step
    fits = all(int(value) == first + (number - 1) * step for number, value in zip(numbers, values, strict=True))
    return (first, step) if step > 0 and not rest and first >= 0 and fits else None


def _counts_pages(links: list[Element], document: Document) -> int:
    """How surely numbers are those of pages: 2 where the addresses count as they do; 1 where they begin with the first pages; 0
    for years and others that only look like it."""
    numbers = [int(text_of(link).strip("[]")) for link in links]
    addresses = [_absolute(link.attr("href") or "", document) for link in links]
    name = _counting(addresses)
    values = [dict(parse_qsl(urlsplit(address).query)).get(name, "") for address in addresses]
    is_named = bool(re.search(r"(?i)pa?ge?|^p$|seite|start|offset|from", name)) or name == _PATH
    begins = min(numbers) <= _FIRST_PAGES
    if is_named and begins and (name == _PATH or values == [str(number) for number in numbers]):
        return 2
    is_of_years = all(_EARLIEST_YEAR <= number <= _LATEST_YEAR for number in numbers)
    return int(begins or (is_named and not is_of_years))


_FIRST_PAGES, _EARLIEST_YEAR, _LATEST_YEAR = 3, 1800, 2100


def _counting(addresses: list[str]) -> str:
    """The parameter whose value differs among addresses, or `_PATH`."""
    queries = [dict(parse_qsl(urlsplit(address).query, keep_blank_values=True)) for address in addresses]
    for name in queries[0] if queries else ():
        if len({query.get(name) for query in queries}) > 1:
            return name
    return _PATH if len({urlsplit(address).path for address in addresses}) > 1 else ""


def _in_the_address(reply: Reply | None) -> Iterator[Paging]:
    """A page number in the address that was asked for: it may count, though nothing on the page says so."""
    for name, value in parse_qsl(urlsplit(reply.request.url).query) if reply is not None else ():
        if OWN_PAGE.fullmatch(name) and value.isdecimal() and int(value) <= _FIRST_PAGES:
            first = f", first = {value}" if value != "1" else ""
            plan = f"next = {{ count = {{ parameter = {quoted(name)}{first} }} }}"
            yield Paging("address", "", f"{name}={value} in the address may count pages", plan)


def _words(counting: str) -> str:
    return "the path" if counting == _PATH else f"the parameter {counting!r}"


def _buttons(document: Document) -> Iterator[Paging]:
    for button in elements(document.top, "button", "a", "input"):
        text = text_of(button) or button.attr("value") or ""
        address = next(
            (v for n, v in attributes(button).items() if n.startswith(("data-", "hx-")) and re.search(r"/|\?", v)),
            "",
        )
        if len(text) < 40 and _MORE.match(text) and (button.tag != "a" or not button.attr("href") or address):
            expression, _ = expression_for(document, [button], [])
            called = f" calls {_absolute(address, document)}" if address else ", what it calls is in a script"
            yield Paging("load more", expression or button.tag, f"{text}{called}")
            return


def _totals(document: Document, rows: Collection[Element]) -> Iterator[Paging]:
    """The total that stands in the shortest text."""
    found = list(_stated(document, set(rows)))
    if found:
        yield min(found, key=lambda link: len(link.value))


def _stated(document: Document, rows: set[Element]) -> Iterator[Paging]:
    inside = {element for row in rows for element in elements(row)}
    for element in elements(document.top):
        if element in inside or element.tag in _NO_TOTAL or not _is_small(element, 12):
            continue
        text = text_of(element)
        if not 4 < len(text) < 120:
            continue
        found = _TOTAL.search(text)
        number = _whole(found["of"] or found["count"]) if found else None
        if found is None or number is None or (found["of"] and not _COUNTED.search(text[: found.end()])):
            continue
        if found["of"] and _NONE_OF.match(text):
            continue
        if re.match(r"\s*(?:page|seite|página|pagina|sida|стр)", text, re.IGNORECASE):
            continue
        expression, _ = expression_for(document, [element], [])
        if expression is None or number < len(rows):
            continue
        pattern = r"of ([\d., ]+)" if found["of"] else r"([\d., ]+)"
        yield Paging("stated total", expression or "", f"{number} in {text!r}",
                     f"total = {{ at = {quoted(expression or '')}, find = '{pattern}', locale = \"en\" }}")  # fmt: skip


def _is_small(element: Element, most: int) -> bool:
    """Whether an element holds at most so many others; asked before its text is gathered."""
    return sum(1 for _ in islice(element.iter_elements(), most + 1)) <= most


def _whole(text: str) -> int | None:
    for locale in ("en", "de"):
        try:
            return integer_reader(locale)(text.strip())
        except NotReadable:
            continue
    return None


def _in_json(document: Document, reply: Reply | None) -> Iterator[Paging]:
    """What the envelope around the rows of a JSON document tells."""
    rows = max((found.count for found in json_rows(document.data, 1)), default=0)
    for sign in envelope_of(document.data, reply.request.url if reply is not None else "", rows):
        shown = str(sign.value) if len(str(sign.value)) < 80 else f"{str(sign.value)[:79]}…"
        yield Paging(_HOW.get(sign.role, sign.role), sign.path, shown, sign.plan)


_HOW = {"total": "stated total", "more": "flag", "no more": "flag"}


def _absolute(reference: str, document: Document) -> str:
    try:
        return document.resolve(reference)
    except NotAUrl:
        return reference
