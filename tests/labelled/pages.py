"""The pages: a listing in one of many styles, inside one of several surroundings (navigation, footers, side lists).

`PAGES` is a list of (name, HTML, label). The label is an expression for the rows; a page's first candidate is right when
it picks the same elements.
"""

from __future__ import annotations

from collections.abc import Callable

SPRINGS = [
    ("MW-0141", "Ash Spring", "Saltholm", "2,2 l/s", "28 May 2022", "339 m"),
    ("MW-0094", "Iron Source", "Saltholm", "0,3 l/s", "30 April 2022", "365 m"),
    ("MW-0276", "Alder Rise", "Thornmere", "7,4 l/s", "7 April 2022", "78 m"),
    ("MW-0181", "Ash Well", "Upper Merrow", "292,4 l/s", "25 March 2022", "371 m"),
    ("MW-0274", "Grey Rise", "Upper Merrow", "1,0 l/s", "18 January 2022", "64 m"),
    ("MW-0149", "Rowan Head", "Lower Merrow", "598,8 l/s", "6 November 2020", "646 m"),
    ("MW-0335", "Upper Pool", "Kestrel Down", "0,2 l/s", "23 October 2020", "178 m"),
    ("MW-0130", "Deer Spout", "Saltholm", "2,0 l/s", "20 September 2020", "548 m"),
]
Row = tuple[str, str, str, str, str, str]
NOTES = (
    "Lined basin, overflow to the north; gauged every spring by the office.",
    "Access over the mill track only, closed in winter and after heavy rain.",
    "Iron-rich water: not for drinking, neither for people nor for cattle.",
    "The trough was rebuilt by the parish in two stages, lately in summer.",
)


def _each(form: Callable[[int, Row], str], rows: list[Row] = SPRINGS) -> str:
    return "\n".join(form(number, row) for number, row in enumerate(rows))


def _note(number: int) -> str:
    return NOTES[number % len(NOTES)]


# -- surroundings

NAV = """<nav class="top"><ul class="menu"><li class="item"><a href="/">Home</a></li><li class="item"><a href="/register">Register</a></li>
<li class="item"><a href="/districts">Districts</a></li><li class="item"><a href="/visit">Visit us</a></li><li class="item"><a href="/about">About</a></li></ul></nav>"""
FOOT = """<footer><div class="links"><div class="col"><h4>Office</h4><a href="/a">Who we are</a> <a href="/b">Jobs</a> <a href="/c">Press</a></div>
<div class="col"><h4>Data</h4><a href="/d">Downloads</a> <a href="/e">Terms</a></div><div class="col"><h4>Help</h4><a href="/f">Contact</a> <a href="/g">Questions</a></div></div>
<p>Merrowdale Water Office, 2 Sluice Lane</p></footer>"""
SIDE = """<aside><h3>Districts</h3><ul class="facets"><li><label><input type="checkbox"> Saltholm <span>(112)</span></label></li><li><label><input type="checkbox"> Thornmere <span>(61)</span></label></li>
<li><label><input type="checkbox"> Upper Merrow <span>(58)</span></label></li><li><label><input type="checkbox"> Lower Merrow <span>(49)</span></label></li><li><label><input type="checkbox"> Kestrel Down <span>(40)</span></label></li>
<li><label><input type="checkbox"> Ashwater <span>(34)</span></label></li></ul></aside>"""
PAGER = """<ul class="pager"><li><a href="?page=1">1</a></li><li><a href="?page=2">2</a></li><li><a href="?page=3">3</a></li><li><a href="?page=4">4</a></li><li><a href="?page=5">5</a></li><li><a href="?page=2">Older</a></li></ul>"""
NEWS = """<div class="box"><h3>News</h3><ul><li><a href="/n/1">Sampling week begins</a></li><li><a href="/n/2">New gauge at Saltholm</a></li><li><a href="/n/3">Office closed at midsummer</a></li></ul></div>"""
OPTIONS = (
    "<form><select name=d>"
    + "".join(f"<option value={n}>District number {n}</option>" for n in range(24))
    + "</select></form>"
)
CRUMBS = """<ol class="crumbs"><li><a href="/">Home</a></li><li><a href="/water">Water</a></li><li><a href="/water/register">Register</a></li></ol>"""
LONG_FOOT = (
    "<footer><ul>"
    + "".join(f"<li><a href='/f/{n}'>Footer page number {n}</a></li>" for n in range(30))
    + "</ul></footer>"
)
TAGS = "<div class=tags>" + "".join(f"<a class=tag href='/tag/{n}'>tag {n}</a> " for n in range(25)) + "</div>"
INTRO = (
    "<h1>Register</h1><p>The office has gauged the waters of Merrowdale since 1921.</p><p class=count>1–8 of 354</p>"
)

AROUND: list[Callable[[str], str]] = [
    lambda body: f"<!doctype html><title>Register</title><body>{NAV}<main>{INTRO}{body}{PAGER}</main>{FOOT}</body>",
    lambda body: (
        f"<!doctype html><title>Register</title><body>{NAV}{CRUMBS}<div id=page>{SIDE}<div id=content>{INTRO}{body}</div></div>{FOOT}</body>"
    ),
    lambda body: (
        f"<html><head><title>Register</title></head><body><center>{INTRO}{OPTIONS}{body}</center><hr>{PAGER}</body></html>"
    ),
    lambda body: f"<body><div class=wrap>{NEWS}{body}{TAGS}</div>{LONG_FOOT}</body>",
    lambda body: (
        f"<body>{NAV}<div class=app><div class=left>{SIDE}{NEWS}</div><div class=right>{body}{PAGER}</div></div>{LONG_FOOT}</body>"
    ),
    lambda body: body,
]

# -- listings: name → (HTML, label)

LISTINGS: dict[str, tuple[str, str]] = {
    "list with classes": (
        f"<ol class=register>{_each(lambda n, r: f'<li class=entry><h3><a href=/s/{r[0]}>{r[1]}</a></h3><p class=where>{r[2]}</p><span class=flow>{r[3]}</span></li>')}</ol>",
        "ol.register > li",
    ),
    "list without any class": (
        f"<ul>{_each(lambda n, r: f'<li><a href=/s/{r[0]}>{r[1]}</a> in {r[2]}, {r[3]}, since {r[4]}</li>')}</ul>",
        "//a[contains(@href, '/s/MW')]/parent::li",
    ),
    "pinned notice among the rows": (
        "<ol class=register><li class='entry notice'><h3><a href=/n>Sampling week</a></h3><p>Some pools are closed.</p></li>"
        f"{_each(lambda n, r: f'<li class=entry data-code={r[0]}><h3><a href=/s/{r[0]}>{r[1]}</a></h3><p>{r[2]}</p><b>{r[3]}</b><i>{r[4]}</i></li>')}</ol>",
        "li[data-code]",
    ),
    "table with thead": (
        f"<table class=list><thead><tr><th>Code<th>Name<th>District<th>Flow</tr></thead><tbody>{_each(lambda n, r: f'<tr><td>{r[0]}<td><a href=/s/{r[0]}>{r[1]}</a><td>{r[2]}<td>{r[3]}')}</tbody></table>",
        "table.list > tbody > tr",
    ),
    "table with a header row of th": (
        f"<table border=1><tr><th>Code</th><th>Name</th><th>Flow</th></tr>{_each(lambda n, r: f'<tr><td>{r[0]}</td><td>{r[1]}</td><td>{r[3]}</td></tr>')}</table>",
        "//tr[td]",
    ),
    "table with a header row of td": (
        f"<table><tr class=head><td>Code</td><td>Name</td><td>Flow</td></tr>{_each(lambda n, r: f'<tr class=row><td>{r[0]}</td><td>{r[1]}</td><td>{r[3]}</td></tr>')}</table>",
        "tr.row",
    ),
    "table, striped, first cell a th": (
        f"<table><thead><tr><th>Code</th><th>Name</th><th>Flow</th></tr></thead>{_each(lambda n, r: f'<tr class={chr(97 + n % 2)}><th>{r[0]}</th><td>{r[1]}</td><td>{r[3]}</td></tr>')}</table>",
        "//tr[td]",
    ),
    "table with group headings": (
        f"<table class=g><tbody><tr><td colspan=3><b>Saltholm</b></td></tr>{_each(lambda n, r: f'<tr><td>{r[0]}</td><td>{r[1]}</td><td>{r[3]}</td></tr>', SPRINGS[:4])}"
        f"<tr><td colspan=3><b>Thornmere</b></td></tr>{_each(lambda n, r: f'<tr><td>{r[0]}</td><td>{r[1]}</td><td>{r[3]}</td></tr>', SPRINGS[4:])}</tbody></table>",
        "//table[@class='g']//tr[td[2]]",
    ),
    "table with the pager as its last row": (
        f"<table class=t><tr><th>Code</th><th>Name</th><th>Flow</th></tr>{_each(lambda n, r: f'<tr><td>{r[0]}</td><td>{r[1]}</td><td>{r[3]}</td></tr>')}<tr><td colspan=3><a href=?p=1>1</a> <a href=?p=2>2</a></td></tr></table>",
        "//table[@class='t']//tr[td[2]]",
    ),
    "table with a check-box in front": (
        f"<table><tbody>{_each(lambda n, r: f'<tr><td><input type=checkbox value={n}></td><td><a href=/s/{r[0]}>{r[1]}</a></td><td>{r[3]}</td><td>{r[4]}</td></tr>')}</tbody></table>",
        "//tr[td/input]",
    ),
    "layout table around the data table": (
        f"<table class=layout><tr><td class=l>{NEWS}</td><td class=m><table class=data><tr><th>Code<th>Name<th>Flow</tr>{_each(lambda n, r: f'<tr><td>{r[0]}<td>{r[1]}<td>{r[3]}</tr>')}</table></td></tr></table>",
        "//table[@class='data']//tr[td]",
    ),
    "definition list": (
        f"<dl class=springs>{_each(lambda n, r: f'<div class=spring><dt>{r[1]}</dt><dd>{r[2]}</dd><dd>{r[3]}</dd></div>')}</dl>",
        "div.spring",
    ),
    "rows with a definition list inside": (
        f"<div class=results>{_each(lambda n, r: f'<article><h2>{r[1]}</h2><dl><dt>Flow</dt><dd>{r[3]}</dd><dt>District</dt><dd>{r[2]}</dd><dt>Altitude</dt><dd>{r[5]}</dd></dl></article>')}</div>",
        "article",
    ),
    "cards in a grid": (
        f"<div class=grid>{_each(lambda n, r: f'<div class=card><img src=/p/{n}.jpg alt><div class=body><h5>{r[1]}</h5><p>{_note(n)}</p><a class=more href=/s/{r[0]}>More</a></div></div>')}</div>",
        "div.card",
    ),
    "cards wrapped in columns and lines": (
        "<section>"
        + "".join(
            f"<div class=line>{_each(lambda n, r: f'<div class=column><div class=card><h5>{r[1]}</h5><p>{r[2]}</p><p>{r[3]}</p></div></div>', SPRINGS[i : i + 4])}</div>"
            for i in (0, 4)
        )
        + "</section>",
        "div.column",
    ),
    "articles": (
        f"<div id=results>{_each(lambda n, r: f'<article class=hit><header><a href=/s/{r[0]}>{r[1]}</a></header><p>{_note(n)}</p><footer>{r[4]}</footer></article>')}</div>",
        "article.hit",
    ),
    "links that hold everything": (
        f"<div class=tiles>{_each(lambda n, r: f'<a class=tile href=/s/{r[0]}><strong>{r[1]}</strong><span>{r[2]}</span><em>{r[3]}</em></a>')}</div>",
        "a.tile",
    ),
    "class names made by a machine": (
        f"<div class=css-1x2>{_each(lambda n, r: f'<div class=css-9ab><div class=css-77k><a class=css-q1 href=/s/{r[0]}>{r[1]}</a></div><div class=css-zz9>{r[3]}</div><div class=css-zy0>{r[2]}</div></div>')}</div>",
        "div.css-9ab",
    ),
    "rows with ids and state classes": (
        f"<div>{_each(lambda n, r: f'<div id=s{n} class={chr(34)}row row-{n} {chr(34) if n % 3 else chr(34)}><b>{r[1]}</b> <i>{r[2]}</i> <u>{r[3]}</u></div>')}</div>",
        "div.row",
    ),
    "rows told by a role": (
        f"<div role=list>{_each(lambda n, r: f'<div role=listitem><a href=/s/{r[0]}>{r[1]}</a><div>{r[2]}</div><div>{r[3]}</div></div>')}</div>",
        "//div[@role='listitem']",
    ),
    "grid of roles": (
        f"<div role=table><div role=row><div role=columnheader>Name</div><div role=columnheader>Flow</div></div>{_each(lambda n, r: f'<div role=row><div role=cell>{r[1]}</div><div role=cell>{r[3]}</div></div>')}</div>",
        "//div[@role='row'][div[@role='cell']]",
    ),
    "elements of their own": (
        f"<spring-list>{_each(lambda n, r: f'<spring-row code={r[0]}><span slot=name>{r[1]}</span><span slot=flow>{r[3]}</span><span slot=place>{r[2]}</span></spring-row>')}</spring-list>",
        "spring-row",
    ),
    "microdata": (
        f"<div>{_each(lambda n, r: f'<div itemscope itemtype=http://schema.org/Place><span itemprop=name>{r[1]}</span> <span itemprop=address>{r[2]}</span> <meta itemprop=code content={r[0]}></div>')}</div>",
        "div[itemscope]",
    ),
    "comments that nest": (
        f"<div class=thread>{_each(lambda n, r: f'<div class=comment><b class=who>{r[1]}</b><p class=said>{_note(n)}</p><time>{r[4]}</time></div>')}</div>",
        "div.comment",
    ),
    "lists under headings": (
        "<div class=az>"
        + "".join(
            f"<h2>{letter}</h2><ul class=part>{_each(lambda n, r: f'<li class=s><a href=/s/{r[0]}>{r[1]}</a> <span>{r[2]}</span> <span>{r[3]}</span></li>', rows)}</ul>"
            for letter, rows in (("A", SPRINGS[:3]), ("G", SPRINGS[3:6]), ("U", SPRINGS[6:]))
        )
        + "</div>",
        "li.s",
    ),
    "search results with snippets": (
        f"<div id=r>{_each(lambda n, r: f'<div class=g><a href=/s/{r[0]}><h3>{r[1]}</h3><cite>register › {r[0]}</cite></a><div class=st>{_note(n)} {r[4]}</div></div>')}</div>",
        "div.g",
    ),
    "directory listing": (
        f"<table><tr><th>Name</th><th>Last modified</th><th>Size</th></tr><tr><td><a href=/>Parent Directory</a></td><td>&nbsp;</td><td>-</td></tr>{_each(lambda n, r: f'<tr><td><a href={r[0]}.csv>{r[0]}.csv</a></td><td>2022-05-{n + 10} 12:00</td><td>{n + 1}.{n}K</td></tr>')}</table>",
        "//tr[td/a[contains(@href, 'csv')]]",
    ),
    "unclosed and upper-case": (
        f"<UL CLASS=OLD>{_each(lambda n, r: f'<LI><A HREF=/s/{r[0]}><B>{r[1]}</B></A><BR>{r[2]}<BR><I>{r[3]}</I>')}</UL>",
        "ul.OLD > li",
    ),
    "two lists of the same class": (
        f"<h2>Popular</h2><ul class=list>{_each(lambda n, r: f'<li><a href=/s/{r[0]}>{r[1]}</a></li>', SPRINGS[:3])}</ul><h2>All</h2><div id=all><ul class=list>{_each(lambda n, r: f'<li><a href=/s/{r[0]}>{r[1]}</a><p>{_note(n)}</p><span>{r[3]}</span></li>')}</ul></div>",
        "#all li",
    ),
    "rows mixed with advertisements": (
        f"<div class=feed>{_each(lambda n, r: ('<div class=ad><p>Buy buckets</p></div>' if n % 4 == 2 else '') + f'<div class=post><h4>{r[1]}</h4><p>{r[2]}</p><span class=f>{r[3]}</span></div>')}</div>",
        "div.post",
    ),
}


def _pages() -> list[tuple[str, str, str]]:
    """Every listing in two surroundings, chosen round and round."""
    pages = []
    for number, (name, (body, label)) in enumerate(LISTINGS.items()):
        for turn in (0, 1):
            around = (2 * number + turn + number // 3) % len(AROUND)
            pages.append((f"{name} ({around})", AROUND[around](body), label))
    return pages


PAGES = _pages()
