"""`wadi inspect`: what stands on a page, before a plan is written."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, TextIO

from wadi.cli.options import add_page, add_rendered, opened, rendering_asked
from wadi.cli.show import age_text, blocks, console, plain, write_json
from wadi.cli.status import Status
from wadi.problems import plural, shortened
from wadi.table.words import percent

if TYPE_CHECKING:
    from rich.console import RenderableType

    from wadi.actions.open_page import OpenedPage
    from wadi.learn.clues.field_guess import FieldGuess
    from wadi.learn.first_look.look import Look, RowsFound
    from wadi.learn.first_look.outline import JsonRows
    from wadi.learn.first_look.saved_replies import SavedSource
    from wadi.learn.first_look.three_ways import Behind, ThreeWays
    from wadi.web.robots import RobotsVerdict

EXAMPLES = """examples (with the sample site up:  wadi demo --serve --port 8700):
  wadi inspect http://127.0.0.1:8700/register
  wadi inspect http://127.0.0.1:8700/register/MW-0141 --json
  wadi inspect page.html --rows 8
  wadi inspect http://127.0.0.1:8700/gauges --rendered
  wadi inspect --har saved.har
"""
_SHOWN_FIELDS = 14
_SHOWN_PATHS = 24
_PLAN_WIDTH = 66
_BLOCK_WIDTH = 10
_SHOWN_SAVED, _SHOWN_VALUES = 8, 5


def add_arguments(parser: argparse.ArgumentParser) -> None:
    add_page(parser, or_archive=True)
    parser.add_argument("--rows", type=int, default=3, metavar="N", help="how many candidates for rows (default: 3)")
    add_rendered(parser)
    parser.add_argument("--json", action="store_true", help="everything as JSON on standard output")


def run(args: argparse.Namespace, out: TextIO, err: TextIO) -> Status:
    from wadi.actions.open_page import robots_verdict
    from wadi.learn.first_look.look import as_dict, look_at

    if args.har is not None:
        return _archive(args, out)
    if args.rendered:
        return _compare(args, out)
    page = opened(args)
    look = look_at(page.document, page.reply, most_rows=max(1, args.rows))
    verdict = robots_verdict(page.reply.request.url) if page.from_web and args.plan_with is None else None
    if args.json:
        write_json(
            {
                "page": args.page,
                "source": page.source,
                "age_s": page.age_s,
                "robots": _word_dict(verdict),
                **as_dict(look),
            },
            out,
        )
    else:
        to = console(out)
        to.print(view(page, look, verdict, to.width, verbose=args.verbose))
    return Status.DONE


def _archive(args: argparse.Namespace, out: TextIO) -> Status:
    """The replies of a saved archive that have rows, the likeliest source first."""
    from wadi.cli.options import saved_in_archive

    found = saved_in_archive(args)
    if args.json:
        write_json({"archive": args.har, "sources": [_saved_dict(one) for one in found]}, out)
        return Status.DONE
    to = console(out)
    shown = [(str(number), _saved_lines(one, to.width)) for number, one in enumerate(found[:_SHOWN_SAVED], 1)]
    more = len(found) - len(shown)
    last = [("more", [f"{plural(more, 'more reply', 'more replies')} with rows (--json has all)"])] if more else []
    draft = f"wadi draft --har {shlex.quote(args.har)} --pick 1"
    to.print(blocks([*shown, *last, ("next", [plain(draft, "cyan")])]))
    return Status.DONE


def _saved_dict(source: SavedSource) -> dict[str, Any]:
    request = source.reply.request
    return {
        "method": request.method,
        "url": source.address,
        "rows": source.count,
        "expression": source.rows.expression,
        "fields": [field.name for field in source.rows.fields],
        "times": source.times,
        "varied": {name: list(values) for name, values in (source.varied or {}).items()},
        "goes_on": [way.plan or way.how for way in source.look.paging],
    }


def _saved_lines(source: SavedSource, width: int) -> list[Any]:
    """What was asked for, the rows and fields in the reply, and how it went on."""
    request = source.reply.request
    lines: list[Any] = [plain(f"{request.method} {shortened(source.address, max(40, width - 20))}", "bold")]
    lines.append(f"{plural(source.count, 'row')}: {source.rows.expression}")
    names = [field.name for field in source.rows.fields]
    lines.append(f"fields: {shortened(', '.join(names), max(40, width - 24))}")
    for name, values in (source.varied or {}).items():
        said = ", ".join(shortened(value, 20) for value in values[:_SHOWN_VALUES])
        said += " …" if len(values) > _SHOWN_VALUES else ""
        lines.append(f"asked for {source.times} times, with {shortened(name, 30)} {said}")
    lines += [f"goes on: {way.plan or way.how}" for way in source.look.paging[:2]]
    return lines


def _compare(args: argparse.Namespace, out: TextIO) -> Status:
    """The page as it came beside the page as a browser shows it."""
    from wadi.actions.rendered import open_rendered
    from wadi.learn.first_look.look import as_dict, look_at
    from wadi.learn.first_look.three_ways import three_ways

    shown = open_rendered(args.page, rendering_asked(args), ignore_robots=args.ignore_robots)
    raw = opened(args)
    one, other = (look_at(page.document, page.reply, most_rows=max(1, args.rows)) for page in (raw, shown.opened))
    found = three_ways(one, other, shown.background)
    if args.json:
        write_json(
            {
                "page": args.page,
                "way": found.way,
                "plan": found.lines,
                "only_rendered": found.only_rendered,
                "background": [_behind_dict(behind) for behind in found.behind],
                "noticed": list(shown.noticed),
                "raw": as_dict(found.raw),
                "rendered": as_dict(found.rendered),
            },
            out,
        )
        return Status.DONE
    to = console(out)
    to.print(_compared_view(found, shown.noticed, to.width))
    return Status.DONE


def _compared_view(found: ThreeWays, noticed: Sequence[str], width: int) -> RenderableType:
    """Raw against rendered, what was asked for in the background, and the way to take."""
    sides = []
    for name, look in (("raw", found.raw), ("rendered", found.rendered)):
        rows = look.main_rows
        said = f"{plural(rows.rows.count, 'row')}: {rows.expression}" if rows is not None else "no rows"
        sides.append((name, [f"{look.kind.kind}; {said}"]))
    asked = [_behind_line(behind, width) for behind in found.behind]
    only = [f"{plural(found.only_rendered, 'row')} in the rendered page alone"] if found.only_rendered else []
    return blocks(
        [
            *sides,
            ("only there", only),
            ("asked for", asked or ["no data in the background"]),
            ("noticed", list(noticed)),
            ("way", [plain(_WAYS[found.way], "bold"), *(plain(line, "cyan") for line in found.lines)]),
            *_group_blocks(found.rendered, width, verbose=False),
        ]
    )


def _behind_dict(behind: Behind) -> dict[str, Any]:
    request = behind.reply.request
    rows = {"rows": behind.rows.count, "expression": behind.rows.expression, "shown": behind.is_shown}
    return {"method": request.method, "url": request.url, **rows}


def _behind_line(behind: Behind, width: int) -> str:
    request = behind.reply.request
    rows = f"{plural(behind.rows.count, 'row')}: {behind.rows.expression}"
    said = f"{request.method} {shortened(request.url, max(40, width - 50))}    {rows}"
    return f"{said}, shown on the page" if behind.is_shown else said


_WAYS = {
    "plain": "plain: the page as it comes has the rows; no browser is needed",
    "JSON behind": "the JSON behind it: a script asks for the rows, and so can a plan",
    "browser": "a browser: the rows come only after scripts ran",
}


def view(
    page: OpenedPage, look: Look, verdict: RobotsVerdict | None, width: int, *, verbose: bool = False
) -> RenderableType:
    """The look in blocks: reply, kind, rows, tables, paging, data, sources."""
    most = 200 if verbose else _SHOWN_PATHS
    lines = []
    for table in look.tables:
        headings = ", ".join(shortened(heading, 24) or "(none)" for heading in table.headings) or "no headings"
        caption = f" “{shortened(table.caption, 40)}”" if table.caption else ""
        lines.append(f"{table.expression}{caption}    {plural(table.rows, 'row')}: {headings}")
    return blocks(
        [
            ("reply", _reply_lines(page, verdict)),
            ("kind", [f"{look.kind.kind}: {'; '.join(look.kind.reasons)}"]),
            *_group_blocks(look, width, verbose=verbose),
            ("outline", _outline_lines(look, most)),
            ("tables", lines),
            ("labels", [] if look.fields else _label_lines(look)),
            (
                "goes on",
                [
                    f"{p.how:<13}{shortened(p.value, 90)}" + (f"\n{'':<13}{p.plan}" if p.plan else "")
                    for p in look.paging
                ],
            ),
            ("data", _data_lines(look, most)),
            ("sources", _source_lines(look, most // 3)),
        ]
    )


def _reply_lines(page: OpenedPage, verdict: RobotsVerdict | None) -> list[str]:
    from wadi.learn.first_look.look import caching_of, cookies_set, language_of_page

    reply, document = page.reply, page.document
    again = "; --fresh asks again" if page.from_web else ""
    age = f", {age_text(page.age_s)} old{again}" if page.age_s is not None else ""
    lines = [reply.url if reply.url.startswith("http") else page.source]
    lines += [f"redirected from {hop.url} ({hop.status})" for hop in reply.hops]
    encoding = f"{document.encoding.name} ({document.encoding.learned_from})"
    language = language_of_page(document, reply)
    size = f"{len(reply.body):,} bytes".replace(",", " ")
    kind = reply.content_type.partition(";")[0]
    status = f"status {reply.status}" if reply.url.startswith("http") else ""
    facts = (status, kind, size, encoding, f"language {language}" if language else "")
    lines.append("   ".join(filter(None, facts)))
    lines.append(f"from {page.source}{age}" if page.source != "the site" else "from the site, kept for the day")
    if document.parsed_as != "html":
        lines.append(f"read as {document.parsed_as}")
    if document.cut_off:
        lines.append(f"! the end of it is not read: {document.cut_off}")
    if document.title:
        lines.append(f"title: {shortened(document.title, 90)}")
    if caching := caching_of(reply):
        lines.append("caching: " + ", ".join(f"{name} {shortened(value, 40)}" for name, value in caching.items()))
    if cookies := cookies_set(reply):
        lines.append(f"cookies set: {', '.join(cookies)}")
    if verdict is not None:
        lines.append(_robots_line(verdict))
    return lines


def _robots_line(verdict: RobotsVerdict) -> str:
    delay = f", and asks for {verdict.crawl_delay_s:g} s between requests" if verdict.crawl_delay_s is not None else ""
    if verdict.rule is None:
        return f"robots.txt: allowed, no rule is about it{delay}"
    if not verdict.rule.line:
        return "robots.txt: not to be had (5xx), so nothing may be fetched"
    rule = f"line {verdict.rule.line}, {'Allow' if verdict.rule.allow else 'Disallow'}: {verdict.rule.path}"
    return f"robots.txt: {'allowed' if verdict.allowed else 'NOT allowed'} ({rule}, for {verdict.agent}){delay}"


def _word_dict(verdict: RobotsVerdict | None) -> dict[str, Any] | None:
    if verdict is None:
        return None
    rule = {"allow": verdict.rule.allow, "path": verdict.rule.path, "line": verdict.rule.line} if verdict.rule else None
    return {"allowed": verdict.allowed, "agent": verdict.agent, "rule": rule, "crawl_delay_s": verdict.crawl_delay_s}


def _group_blocks(look: Look, width: int, *, verbose: bool) -> list[tuple[str, list[Any]]]:
    """What can be drafted from, each with its mark: the page's own fields, and candidates for rows, the first with its fields."""
    found: list[tuple[str, list[Any]]] = []
    for group in look.groups:
        if group.rows is None:
            found.append((f"fields {group.mark}", _field_lines(group.fields, group.marks, width)))
            continue
        head, *first = _rows_head(group.rows)
        if not found or verbose:
            lines = [head, *first, *_field_lines(group.fields, group.marks, width)]
        else:
            lines = [head, "; ".join([*first, plural(len(group.fields), "field")])]
        found.append((f"rows {group.mark}", lines))
    return found


def _rows_head(candidate: RowsFound | JsonRows) -> list[Any]:
    """What picks the rows, how many there are, and of HTML what the first one says."""
    from wadi.learn.first_look.fields import rows_read
    from wadi.learn.first_look.look import RowsFound
    from wadi.page.nodes import pieces_of_text

    if not isinstance(candidate, RowsFound):
        return [plain(f"{candidate.expression}    {plural(candidate.count, 'row')}", "bold")]
    odd = f", {candidate.rows.left_out} left out that are no rows like these" if candidate.rows.left_out else ""
    read = len(rows_read(candidate.rows.rows))
    odd += f"; fields and shares are those of the first {read}" if candidate.rows.count > read else ""
    pieces = (" ".join(text.split()) for text in pieces_of_text(candidate.rows.rows[0]))
    sample = shortened(" · ".join(piece for piece in pieces if piece), 88)
    return [plain(f"{candidate.expression}    {plural(candidate.rows.count, 'row')}{odd}", "bold"), f"first: {sample}"]


def _field_lines(fields: Sequence[FieldGuess], marks: Sequence[str], width: int) -> list[Any]:
    """The first fields as a table, and how many more there are."""
    more = len(fields) - _SHOWN_FIELDS
    table = [_fields_table(fields[:_SHOWN_FIELDS], marks, width)] if fields else []
    return [*table, *([f"… {more} more fields (--json has all)"] if more > 0 else [])]


def _fields_table(fields: Sequence[FieldGuess], marks: Sequence[str], width: int) -> RenderableType:
    from rich.table import Table

    from wadi.learn.clues.toml_text import as_key

    names = [as_key(field.name) for field in fields]
    written = [field.as_plan() for field in fields]
    table = Table(box=None, padding=(0, 2, 0, 0), show_header=False, pad_edge=False)
    plans = min(_PLAN_WIDTH, 2 + max(map(len, written)))
    room = max(12, width - _BLOCK_WIDTH - max(map(len, names)) - plans - 17)
    for right in (False, False, False, True, False):
        table.add_column(no_wrap=True, justify="right" if right else "left")
    for found, mark, name, plan in zip(fields, marks, names, written, strict=False):
        shown = " | ".join(shortened(sample, 24) for sample in found.samples)
        shown += f"  ({found.type.note})" if found.type.note else ""
        shown += f"  ({found.remark})" if found.remark else ""
        shown += f"  ({percent(round(found.several * 100), 100)} several)" if found.several else ""
        cells = (plain(shortened(f"= {plan}", plans), "cyan"), plain(percent(round(found.share * 1000), 1000)))
        table.add_row(plain(mark, "dim"), plain(name), *cells, plain(shortened(shown, room), "dim"))
    return table


def _outline_lines(look: Look, most: int) -> list[Any]:
    if not look.paths:
        return []
    width = min(48, max(len(path.path) for path in look.paths))
    lines = []
    for path in look.paths[:most]:
        types = "/".join(name for name, _ in path.types.most_common())
        samples = " | ".join(shortened(sample, 24) for sample in path.samples)
        lines.append(f"{shortened(path.path, 48):<{width}}  {path.count:>5} × {types:<10} {samples}".rstrip())
    return [*lines, *([f"… {len(look.paths) - most} more paths (-v shows them)"] if len(look.paths) > most else [])]


def _label_lines(look: Look) -> list[str]:
    lines = []
    for found in look.labels[:4]:
        pairs = ", ".join(f"{shortened(label, 20)} = {shortened(value, 24)}" for label, value in found.pairs[:8])
        lines.append(f"{found.expression}    {found.count} × {pairs}")
    return lines


def _data_lines(look: Look, most: int) -> list[str]:
    lines = []
    for name in ("jsonld", "microdata", "rdfa"):
        for item in look.data.get(name, [])[:4]:
            lines.append(f"{name:<10}{shortened(_item_text(item), 100)}")
    for name, value in list(look.data.get("state", {}).items())[:8]:
        size = f"{plural(len(value), 'member')}" if isinstance(value, list | dict) else shortened(str(value), 40)
        lines.append(f"{'script':<10}{name}: {type(value).__name__.replace('dict', 'object')} of {size}")
    meta = look.data.get("meta", {})
    if meta:
        lines.append(
            f"{'meta':<10}"
            + ", ".join(f"{name} = {shortened(value, 30)}" for name, value in list(meta.items())[: most // 4])
        )
    for name, count, first in look.attributes[:6]:
        lines.append(f"{'attribute':<10}{name} on {plural(count, 'element')}: {shortened(first, 60)}")
    for rows in look.data_rows:
        lines.append(
            f"{'rows':<10}{rows.expression}: {rows.count} with {', '.join(field.name for field in rows.fields[:8])}"
        )
    return lines


def _source_lines(look: Look, most: int) -> list[str]:
    return [
        f"{source.url}  ({source.what}, {source.where}{f'; {source.alike} more with other numbers' if source.alike else ''})"
        for source in look.sources[:most]
    ]


def _item_text(item: Any) -> str:
    if not isinstance(item, dict):
        return str(item)
    kind = item.get("@type") or item.get("type") or "?"
    kind = ", ".join(map(str, kind)) if isinstance(kind, list) else str(kind)
    values = item.get("properties", item)
    pairs = [
        f"{k} = {v[0] if isinstance(v, list) and v else v}" for k, v in values.items() if not str(k).startswith("@")
    ]
    return f"{kind}: {', '.join(pairs)}"
