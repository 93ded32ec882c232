"""Rows that are alike, read from the page's source: what all of them say in tags only a few need to say to a parser.

The rows of a listing are the same tags again and again, with other texts between them. From rows that a parser has read come
templates (`row_source`). On further pages those rows that fit one and stand side by side are read by it. The first two of
them, the last, and one for each way in which attributes differ that selectors ask for stay in the page; the others are cut out
of it before it is parsed.

The result is the same, since tags that nest as they are written make the same elements whatever stands between them and in
their quoted attributes, as long as that holds no markup (HTML Living Standard §13.2.5 and §13.2.6), and since a row that leaves
the parser as it found it does so again. The rows that stay show that it is so: each has a number, and has to stand in the tree
as its template says. Where one does not, the page is read whole. A page with 30 rows of 9 fields is parsed and extracted in
two thirds of the time (docs/performance.md).
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from html import unescape
from itertools import groupby
from typing import NamedTuple

from lxml import etree

from wadi.page.row_source import LITERAL, RowSource, Template, differing, template_of, units
from wadi.page.selectors.match import Matcher
from wadi.page.selectors.shape import Picks, Shapes

Element = etree._Element

_MARK = "wadi-row"
# Characters that XML cannot hold: one parser drops them.
_NOT_WITH = (_MARK, "\ufffe", "\uffff")
# Of the references those are read here that mean the same everywhere, with their semicolon.
_OTHER_REFERENCE = re.compile(r"&(?!(?:amp|lt|gt|quot|nbsp|#39);)")
_LEAST_RUN = 7
_MOST_TEMPLATES = 4
_LEARNED_FROM = 10
_IN_VAIN = 20
_COMPARED = 3


class Doubtful(Exception):
    """The rows that stayed in the page do not stand in its tree as they should: it is to be read whole."""


class AlikeRow(NamedTuple):
    """A row that was read from the source: for each field its text, not tidied; None where it picks nothing."""

    texts: Sequence[str | None]


class Alike:
    """The templates of a page kind, learned from pages that were read whole.

    `attributes` are those that the fields take, None for the text; `asked` those that the kind's other selectors ask for.
    """

    def __init__(self, shapes: Shapes, attributes: Sequence[str | None], asked: Iterable[str]) -> None:
        self._shapes = shapes
        self._taken = tuple(attributes)
        self._asked = LITERAL | frozenset(asked) | frozenset(shapes.attributes)
        self._templates: list[Template] = []
        self._search: _Search | None = None
        self._learned_from = 0
        self._in_vain = 0
        self._compared = 0

    @property
    def may_learn(self) -> bool:
        """Whether a further page that was read whole is of use."""
        return self._learned_from < _LEARNED_FROM

    def learn(self, source: str, rows: Sequence[Element]) -> None:
        """Take templates from a page's source and the rows that a parser found in it, while that `may_learn`."""
        if len(rows) < _LEAST_RUN:
            return
        self._learned_from += 1
        tag = str(rows[0].tag)
        found = dict(self._shapes.known(row) for row in rows if row.tag == tag)
        before = list(self._templates)
        for unit in units(source, tag):
            picks = found.pop(unit.shape(self._shapes.attributes, self._shapes.present), None)
            if picks is not None:
                self._take(unit, picks)
            if not found:
                break
        if self._templates != before:
            self._search = _search_for(self._templates)

    def _take(self, unit: RowSource, picks: Picks) -> None:
        """Make a template that a row fits, or let one that differs from it in values alone fit it, too."""
        structure = unit.shape(())
        for place, one in enumerate(self._templates):
            if one.structure == structure and one.picks == picks:
                if re.fullmatch(one.expression, unit.text):
                    return
                varying = one.varying | differing(one.unit, unit, tuple(self._asked))
                wider = template_of(one.unit, picks, self._taken, self._asked, varying)
                if wider is not None and re.fullmatch(wider.expression, unit.text):
                    self._templates[place] = wider
                    return
        made = template_of(unit, picks, self._taken, self._asked) if len(self._templates) < _MOST_TEMPLATES else None
        if made is not None:
            self._templates.append(made)

    def taking(self) -> Taking | None:
        """What takes rows out of one page; None while nothing is learned, or when that was in vain for many pages."""
        return Taking(self._search, self._shapes) if self._search and self._in_vain < _IN_VAIN else None

    @property
    def is_to_compare(self) -> bool:
        """Whether a page is to be read whole as well, and compared: the first ones are."""
        return self._compared < _COMPARED

    def compared(self, *, is_same: bool) -> None:
        """What a comparison gave. When a page came out otherwise, no further one is read this way."""
        self._compared += 1
        if not is_same:
            self._search = None
            self._learned_from = _LEARNED_FROM

    def was_used(self, *, is_of_use: bool) -> None:
        """Whether a page was read this way."""
        self._in_vain = 0 if is_of_use else self._in_vain + 1


class _Search(NamedTuple):
    """What finds rows that fit one of the templates; by the number of the last group to close, that is the group around each,
    the template and where its own groups stand."""

    pattern: re.Pattern[str]
    by_group: Mapping[int, tuple[Template, slice]]


def _search_for(templates: Sequence[Template]) -> _Search:
    by_group: dict[int, tuple[Template, slice]] = {}
    number = 1
    for one in templates:
        by_group[number] = (one, slice(number, number + one.group_count))
        number += 1 + one.group_count
    return _Search(re.compile(rf"(?:{'|'.join(f'({one.expression})' for one in templates)})[ \t\r\n\f]*"), by_group)


class _Run(NamedTuple):
    """Rows that fit templates and stand side by side: of each its template, what tells in which way it is like others (its
    template and the attributes that differ), and its texts. `staying` are the places of those that stay in the page."""

    templates: Sequence[Template]
    likes: Sequence[object]
    rows: Sequence[AlikeRow]
    staying: Sequence[int]


@dataclass
class Taking:
    """Rows taken out of one page: `rest` makes what is parsed, `rows` puts them among those that are found in its tree."""

    _search: _Search
    _shapes: Shapes
    _runs: list[_Run] = field(default_factory=list)
    _around: set[Element] = field(default_factory=set)

    @property
    def has_taken(self) -> bool:
        """Whether there was anything to take."""
        return bool(self._runs)

    def rest(self, source: bytes) -> bytes:
        """The page without the rows that are read from its source."""
        text = source.decode("utf-8", "replace")
        pieces: list[str] = []
        done = 0
        for found in () if any(one in text for one in _NOT_WITH) else _adjacent(self._search.pattern, text):
            start, end = found[0].start(), found[-1].end()
            run = self._run_of(found, has_references=text.find("&", start, end) >= 0)
            pieces.append(text[done:start])
            for place in run.staying:
                tag = f"<{run.templates[place].tag}"
                pieces += (tag, f' {_MARK}="{len(self._runs)}.{place}"', found[place][0][len(tag) :])
            done = end
            self._runs.append(run)
        return "".join((*pieces, text[done:])).encode("utf-8", "replace") if self._runs else source

    def _run_of(self, found: Sequence[re.Match[str]], *, has_references: bool) -> _Run:
        """What the rows of a run say. The first two stay in the page, the last, and the first of each that are like another."""
        kinds = [self._search.by_group[match.lastindex or 0] for match in found]
        groups = [match.groups("")[own] for match, (_, own) in zip(found, kinds, strict=True)]
        if has_references:
            groups = [tuple([unescape(text) if "&" in text else text for text in one]) for one in groups]
        templates = [template for template, _ in kinds]
        likes = [(template, template.like_of(one)) for template, one in zip(templates, groups, strict=True)]
        rows = [AlikeRow(template.texts(one)) for template, one in zip(templates, groups, strict=True)]
        last = len(found) - 1
        firsts = dict(zip(reversed(likes), range(last, -1, -1), strict=True))
        return _Run(templates, likes, rows, sorted({0, 1, last, *firsts.values()}))

    def rows(self, found: Sequence[Element]) -> list[Element | AlikeRow]:
        """All rows of the page in their order. Raises Doubtful."""
        numbers = [row.get(_MARK) for row in found]
        marked = {number: row for number, row in zip(numbers, found, strict=True) if number is not None}
        ours = {f"{run}.{place}" for run, one in enumerate(self._runs) for place in one.staying}
        firsts = {f"{run}.0": run for run in range(len(self._runs))}
        # A mark may be the page's own, in capitals, say.
        if not firsts.keys() <= marked.keys() <= ours or len(marked) + numbers.count(None) != len(numbers):
            raise Doubtful
        every: list[Element | AlikeRow] = []
        for number, row in zip(numbers, found, strict=True):
            if number is None:
                every.append(row)
            elif number in firsts:
                every += self._of_run(firsts[number], marked)
        # What is read in a row that others stand in would lack those that were taken out.
        if not self._around.isdisjoint(found):
            raise Doubtful
        return every

    def _of_run(self, number: int, marked: dict[str, Element]) -> Iterator[AlikeRow]:
        """The rows of a run. Those that are like one that is none are none."""
        run = self._runs[number]
        staying = [(run.likes[place], run.templates[place], marked.get(f"{number}.{place}")) for place in run.staying]
        first, second, last = staying[0][2], staying[1][2], staying[-1][2]
        if first is None or second is None or last is None or first.getnext() is not second:
            raise Doubtful
        parent = first.getparent()
        chosen: dict[object, bool] = {}
        for like, template, row in staying:
            if chosen.setdefault(like, row is not None) != (row is not None):
                raise Doubtful
            if row is not None and (row.getparent() is not parent or not self._is_of(row, template)):
                raise Doubtful
        self._around.update(first.iterancestors())
        return (row for like, row in zip(run.likes, run.rows, strict=True) if chosen[like])

    def _is_of(self, row: Element, template: Template) -> bool:
        """Whether a row stands in the tree as a template says, and the fields pick in it what they pick in all that fit."""
        shape, picks = self._shapes.known(row)
        return shape[: len(template.structure)] == template.structure and picks == template.picks

    def check(self, matchers: Iterable[Matcher], root: Element) -> None:
        """Raise Doubtful where one picks something in a row of which others may have been taken out, or around one."""
        templates = {template for run in self._runs for template in run.templates}
        tags = {one.tag for one in self._around}
        inside: set[Element] = set()
        for matcher in matchers:
            subjects = [one.parts[-1][1] for one in matcher.selectors]
            if not any(one.tag is None or one.tag.lower() in tags for one in subjects) and not any(
                template.may_hold(one) for template in templates for one in subjects
            ):
                continue
            inside = inside or set(root.iterfind(f".//*[@{_MARK}]"))
            for element in matcher.select(root):
                around = any(True for _ in element.iterfind(f".//*[@{_MARK}]"))
                if around or element in inside or any(above in inside for above in element.iterancestors()):
                    raise Doubtful


def _adjacent(search: re.Pattern[str], text: str) -> Iterator[list[re.Match[str]]]:
    """The rows that fit a template and stand side by side, where there are enough of them."""
    run: list[re.Match[str]] = []
    end = -1
    for match in search.finditer(text):
        if match.start() != end and run:
            yield from _without_other_references(run, text)
            run = []
        run.append(match)
        end = match.end()
    yield from _without_other_references(run, text)


def _without_other_references(run: list[re.Match[str]], text: str) -> Iterator[list[re.Match[str]]]:
    """A run, cut into several where a text has references that are left to the parser; those that are long enough."""
    if len(run) >= _LEAST_RUN and _OTHER_REFERENCE.search(text, run[0].start(), run[-1].end()) is None:
        yield run
        return
    for is_plain, rows in groupby(run, _has_no_other_reference):
        if is_plain and len(part := list(rows)) >= _LEAST_RUN:
            yield part


def _has_no_other_reference(match: re.Match[str]) -> bool:
    return not any(_OTHER_REFERENCE.search(text) for text in match.groups("")[match.lastindex or 0 :])
