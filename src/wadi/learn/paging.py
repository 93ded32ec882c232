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
from wadi.learn.envelope import envelope_of
from wadi.learn.fields import quoted
from wadi.learn.outline import json_rows
from wadi.learn.selectors import expression_for
from wadi.page.document import Document
from wadi.page.nodes import Element, attributes, children, elements, parent
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
        expression, _ = expression_for(document, [link], [])
        words = re.sub(r"\s*[›»→>▸]+$", "", text)
        upper = _container(document, link)
        if not said:
            expression, plan = by_attribute, f"next = {quoted(by_attribute)}"
        elif upper and words:
            plan = f"next = {{ at = {quoted(upper)}, text = {quoted(words)} }}"
        else:
            plan = f"next = {quoted(expression or 'a')}"
        yield Paging(
            "next link", expression or upper or "a", f"{text} → {_absolute(link.attr('href') or '', document)}", plan
        )
        return


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
    addresses = [_absolute(link.attr("href") or "", document) for link in best if link.attr("href")]
    numbers = [int(text_of(link).strip("[]")) for link in best]
    counting = _counting(addresses)
    expression, _ = expression_for(document, best, [])
    value = f"{numbers[0]} … {max(numbers)}" + (f", by {_words(counting)}" if counting else "")
    plan = f'next = {{ count = {{ parameter = "{counting}" }} }}' if counting not in ("", _PATH) else ""
    yield Paging("page numbers", expression or "", value, plan)


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
