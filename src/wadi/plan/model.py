"""The plan's model: what may stand where, with which types and defaults. Its words are the plan language's words.

The shape is checked here; what the values mean (expressions, locales, who opens whom) is `lint`'s.
"""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, PlainSerializer
from pydantic_core import PydanticCustomError

from wadi.clean.types import TYPE_NAMES, TypeName
from wadi.plan.checks import CheckPlan, Part

_DURATION = re.compile(r"(\d+(?:\.\d+)?)\s*(ms|s|m|min|h)")
_SECONDS = {"ms": 0.001, "s": 1.0, "m": 60.0, "min": 60.0, "h": 3600.0}
_SIZE = re.compile(r"(\d+(?:\.\d+)?)\s*(B|kB|KB|MB|GB)")
_BYTES = {"B": 1, "kB": 1000, "KB": 1000, "MB": 1_000_000, "GB": 1_000_000_000}
MISSING_TEXTS = ("", "-", "–", "—", "−", "--", "?", "n/a", "N/A", "n. a.", "n.a.", "N.A.", "k. A.", "k.A.")


_LONGEST_S = 10 * 366 * 86_400.0


def duration_s(value: object) -> float:
    """Seconds of `500ms`, `2s`, `1.5m`, `2h`; a bare number counts as seconds."""
    if isinstance(value, int | float) and not isinstance(value, bool) and 0 <= value <= _LONGEST_S:
        return float(value)
    found = _DURATION.fullmatch(value.strip()) if isinstance(value, str) else None
    if not found:
        raise PydanticCustomError("wrong-value", 'a length of time is wanted: "500ms", "2s", "5m", "1h"')
    seconds = float(found[1]) * _SECONDS[found[2]]
    if seconds > _LONGEST_S:
        raise PydanticCustomError("wrong-value", "a length of time of at most 10 years is wanted")
    return seconds


def size_bytes(value: object) -> int:
    """Bytes of `200kB`, `50MB`; a bare whole number counts as bytes."""
    if isinstance(value, int) and not isinstance(value, bool) and value > 0:
        return value
    found = _SIZE.fullmatch(value.strip()) if isinstance(value, str) else None
    if not found:
        raise PydanticCustomError("wrong-value", 'a size is wanted: "200kB", "50MB"')
    return int(float(found[1]) * _BYTES[found[2]])


def age_days(value: object) -> int:
    """Days of `90 d`, `12 weeks`, `2 years`; a bare whole number counts as days."""
    if isinstance(value, int) and not isinstance(value, bool) and value > 0:
        return value
    found = re.fullmatch(r"(\d+)\s*(d|days?|w|weeks?|y|years?)", value.strip()) if isinstance(value, str) else None
    if not found or not int(found[1]):
        raise PydanticCustomError("wrong-value", 'an age is wanted: "90 d", "12 weeks", "2 years"')
    return int(found[1]) * {"d": 1, "w": 7, "y": 365}[found[2][0]]


def _as_list(value: object) -> object:
    return [value] if isinstance(value, str) else value


def _as_formula(value: object) -> object:
    return {"formula": value} if isinstance(value, str) else value


def _as_statuses(value: object) -> object:
    return [value] if isinstance(value, int) else value


def _as_field(value: object) -> object:
    return {"at": value} if isinstance(value, str | list) else value


Duration = Annotated[float, BeforeValidator(duration_s, json_schema_input_type=str | float), PlainSerializer(float)]
Size = Annotated[int, BeforeValidator(size_bytes, json_schema_input_type=str | int)]
Days = Annotated[int, BeforeValidator(age_days, json_schema_input_type=str | int)]
Expressions = Annotated[
    list[str], BeforeValidator(_as_list, json_schema_input_type=str | list[str]), Field(min_length=1)
]
Strings = Annotated[list[str], BeforeValidator(_as_list, json_schema_input_type=str | list[str])]
Count = Annotated[int, Field(ge=1, strict=True)]
Name = Annotated[str, Field(pattern=r"^[^\W\d]\w*$")]


class InputFile(Part):
    """An input whose values stand in a file beside the plan."""

    file: str = Field(
        min_length=1, description="CSV or TSV, whose columns stay together, or a text of one value a line"
    )


class InputSequence(Part):
    """An input whose values are the whole numbers of a sequence."""

    first: int = Field(description="the first number")
    last: int = Field(description="the last number, where the steps meet it")
    step: int = Field(1, description="from one number to the next")


class InputSecret(Part):
    """An input that is a secret: it is never written down, and sent only to hosts that the plan names."""

    secret_from: str = Field(
        min_length=1,
        description="the environment variable that holds it; asked for at the terminal where it is not set",
    )


InputRows = list[dict[str, str]]
InputValue = str | int | float | bool | list[str] | list[int] | InputRows | InputFile | InputSecret | InputSequence


class FieldPlan(Part):
    """One column: where its value stands and what becomes of it. The stages run in the order of these keys."""

    at: Expressions | None = Field(None, description="expression, or a list of which the first that matches counts")
    source: str | None = Field(
        None,
        alias="from",
        description="elsewhere than the row: page, data, heading, url, status, route, link, key, input.NAME, header.NAME",
    )
    under: str | None = Field(
        None, description="the cell below this heading of the row's table, merged cells included; at picks inside it"
    )
    label: Strings = Field(
        [],
        description="the value beside this label in a definition list, a table of two columns, or a line Label: value; the "
        "first of several that is there counts; at picks inside the value",
    )
    within: Expressions | None = Field(None, description="with label: the label is searched there alone")
    inside: Literal["html", "json"] | None = Field(
        None, description="the picked text is a document of its own, of this kind"
    )
    then: Expressions | None = Field(None, description="expression for what is picked inside it")
    attr: str | None = Field(None, description="the attribute to take instead of the text")
    property: Annotated[str, Field(pattern=r"^[A-Za-z_$][\w$]*(\.[A-Za-z_$][\w$]*)*$")] | None = Field(
        None,
        description="of pages that a browser shows: the property of the element that scripts see, such as value or checked",
    )
    take: Literal["text", "direct text", "verbatim", "html", "inner html", "safe html", "markdown", "keys"] | None = (
        Field(
            None,
            description="what to take: text, as a reader sees it (default of elements); verbatim, as it is (default of "
            "strings in JSON and CSV); keys, of an object",
        )
    )
    many: bool = Field(
        False, description="every match, as a list; otherwise the first counts and the others are counted"
    )
    split: str | None = Field(None, min_length=1, description="with many: what is between the values of one text")
    find: str | None = Field(None, description="regular expression; its first group, or all of it, is kept")
    parts: dict[Name, FieldPlan] = Field(
        {}, description="columns made of the named groups of find, each a field with stages of its own"
    )
    whole: bool = Field(False, description="with parts: the field itself is a column, too")
    of: Name | None = Field(None, description="of a part: the group of find; default the part's own name")
    clean: Strings = Field([], description="steps from text to text: VERB ARGUMENT…")
    missing: Annotated[list[str], BeforeValidator(_as_list, json_schema_input_type=str | list[str])] | None = Field(
        None,
        description='texts that count as no value, "…" stands for the usual ones; default those; of verbatim texts "" alone',
    )
    map: dict[str, str] | None = Field(
        None, description="text → text; a text that is not in it is a problem, unless else is set"
    )
    otherwise: str | None = Field(None, alias="else", description="what map gives for a text that is not in it")
    type: TypeName = Field("string", description=f"one of {', '.join(TYPE_NAMES)}")
    locale: str | None = Field(None, description="CLDR locale that numbers and dates are written in")
    format: str | None = Field(
        None,
        description="date and time pattern (Unicode TR 35): d MMMM y; unix or unix ms: counted since 1970; of a duration H:mm or "
        "mm:ss; of a point lat lon or lon lat",
    )
    unit: str | None = Field(
        None, description="the unit that may be written at the number; kept for the column, not in the cell"
    )
    units: dict[str, float] = Field(
        {}, description="other units that may be written there, with the factor that turns them into unit"
    )
    other_words: bool = Field(False, description="other words may be around the number")
    negative: Literal["brackets"] | None = Field(
        None, description="numbers in brackets are negative, as in bookkeeping: (12.50)"
    )
    range: Literal["low", "high", "middle"] | None = Field(None, description="of a range like 10–12 this is taken")
    currency: str | None = Field(None, description="of money: the currency (ISO 4217) of texts that name none")
    region: str | None = Field(
        None, description="of phone: the country (ISO 3166-1) whose numbers they are; they come as E.164"
    )
    zone: str | None = Field(None, description="of datetime: the time zone (IANA name) of texts that name none")
    adjust: Strings = Field([], description="steps from number or date to the same: VERB ARGUMENT…")
    distinct: bool = Field(False, description="with many: each value once")
    in_order: bool = Field(False, description="with many: the values sorted, numbers and dates by what they are")
    output: str | None = Field(
        None,
        min_length=1,
        description="of dates, times and moments: how they are written out, by a pattern (Unicode TR 35): yyyy-MM-dd HH:mm; "
        "the column holds texts then",
    )
    join: str | None = Field(None, description="with many: the values as one text, with this between them")
    about: str = Field("", description="what the column is, for the codebook and the Data Package")
    default: str | int | float | bool | None = Field(None, description="for a value that is absent or missing")
    required: bool = Field(False, description="a row without this value goes to the rejects")
    name: str | None = Field(
        None,
        description="of type file: its name below downloads/, columns of the row in braces; default the content's hash",
    )


class PartOf(FieldPlan):
    """A field made of a named group of another: `parent` is that field's name, `origin` the field."""

    parent: str = ""
    origin: FieldPlan | None = None

    @property
    def group(self) -> tuple[str, str]:
        """The expression and its group."""
        return (self.origin.find or "" if self.origin else "", self.of or "")


FieldOrShort = Annotated[FieldPlan, BeforeValidator(_as_field, json_schema_input_type=str | list[str] | FieldPlan)]


class CountPlan(Part):
    """A parameter that counts the pages or the rows: in the address, or in the body with `post`."""

    parameter: str = Field(min_length=1, description="its name; in a JSON body a dot leads one level down")
    first: int = Field(1, description="its value on the first page of the listing")
    step: int | Literal["rows"] = Field(
        1,
        description='what it grows by: 1 for page numbers, the rows of a page for offsets; "rows": as many as the page had',
    )


class AskPlan(Part):
    """A request made from a page: its address, its parameters, and how they are sent."""

    address: str | None = Field(
        None,
        description="URI Template, relative to the page's own address, which it is without; {NAME} is a value of send",
    )
    post: Literal["form", "json"] | None = Field(
        None, description="the parameters go into the body of a POST, as a form or as JSON"
    )
    values: dict[str, Any] = Field({}, description="parameters as they are sent; {NAME} in a text is an input")
    null: Strings = Field([], description="parameters of a JSON body that are sent as null; a dot leads one level down")
    send: dict[str, FieldOrShort] = Field(
        {},
        description="parameter → what is picked for it on the page; with next it ends where one of them picks nothing",
    )
    headers: dict[str, str] = Field({}, description="header fields; {NAME} is a value of send")


class NextPlan(AskPlan):
    """How a listing goes on: by a link (`at`, `text` or `rel`), by a counted parameter, or by values out of the page."""

    at: Expressions | None = Field(None, description="expression for the link, or for something that holds it")
    text: str | None = Field(
        None,
        description="the link whose text is this, or begins or ends with it as words, case, blanks and arrows aside (without at "
        "among all links)",
    )
    only: Strings = Field([], description="with at or text: patterns (* and ?) of which the link's URL must match one")
    skip: Strings = Field([], description="with at or text: patterns (* and ?) of which the link's URL must match none")
    rel: Literal["next"] | None = Field(
        None, description="the link of this relation, in the Link header (RFC 8288) or the page"
    )
    count: CountPlan | None = Field(None, description="a counted parameter")
    remember: dict[str, FieldOrShort] = Field(
        {}, description="like send, but what one page said is sent on from pages that do not say it"
    )
    end_unless: Expressions | None = Field(None, description="a flag: the listing ends where it does not pick true")
    end_at: Expressions | None = Field(None, description="the listing ends on a page that has this")
    end_status: Annotated[list[int], BeforeValidator(_as_statuses, json_schema_input_type=int | list[int])] = Field(
        [], description="statuses by which the site says that the listing is at its end, such as 404"
    )
    end_when: Literal["no rows", "no new rows", "known rows", "total"] | None = Field(
        None,
        description='what else ends it: "no rows" (count, unless said otherwise); "no new rows"; "total": when so many came; '
        '"known rows": a page all of whose rows earlier runs have',
    )
    end_page: FieldOrShort | None = Field(
        None, description="the number of the last page, where the page states it: the listing ends there"
    )
    reread: bool = Field(
        False,
        description="each page but the last is asked for once more, after the page that follows it, to notice records that "
        "moved over its edge meanwhile; doubles the requests for the listing",
    )
    most: Count = Field(10_000, description="pages of one listing, so that none is endless")


class OpenPlan(AskPlan):
    """Which links of a page are opened: by an expression, by a form of the page, or by an address made from the page."""

    at: Expressions | None = Field(None, description="expression for the link")
    form: Expressions | None = Field(
        None, description="the form that is sent, with its hidden and preset fields; values replace them"
    )
    where: Expressions | None = Field(
        None, description="only where this is: in the row, of what is opened from rows, else on the page"
    )
    within: Expressions | None = Field(None, description="only links inside these parts of the page")
    only: Strings = Field([], description="patterns (* and ?) of which the URL must match one")
    skip: Strings = Field([], description="patterns (* and ?) of which the URL must match none")
    text: Strings = Field([], description="patterns (* and ?) of which the link's text must match one, case aside")
    skip_text: Strings = Field([], description="patterns (* and ?) of which the link's text must match none")
    call: str | None = Field(
        None, description="a function of the plan's code: called with URL and text, true opens the link"
    )
    hosts: Strings = Field([], description="hosts that are opened beside the page's own; * for any")
    scope: Literal["row", "page"] | None = Field(
        None, description="where `at` searches; default the row if the target completes it, else the page"
    )


class ListPlan(Part):
    """A table inside a row, or inside a page: a table of its own, tied to the row by carried columns."""

    rows: Expressions = Field(description="expression for the rows, inside the row or the page")
    split: str | None = Field(
        None,
        min_length=1,
        description="each text that rows picks falls into rows, with this between them; . is a piece",
    )
    carry: Strings = Field([], description="columns of the row that go into each of these")
    table: Name | None = Field(None, description="the table that they go to; default the list's name")
    fields: dict[Name, FieldOrShort] = Field(min_length=1, description="the columns")


NextOrShort = Annotated[NextPlan, BeforeValidator(_as_field, json_schema_input_type=str | list[str] | NextPlan)]
OpenOrShort = Annotated[OpenPlan, BeforeValidator(_as_field, json_schema_input_type=str | list[str] | OpenPlan)]


class BrowserPlan(Part):
    """How a browser shows a page before it is read: what is done on it, and when it is ready."""

    do: Strings = Field(
        [],
        description="steps on the page, one after the other: VERB ARGUMENT…, quoted as in a shell; {NAME} is an input",
    )
    wait: Expressions | None = Field(
        None, description="the page is ready when this is there (CSS or XPath); default: when the network is quiet"
    )
    least: Count = Field(1, description="with wait: so many must be there")
    gone: Expressions | None = Field(None, description="the page is ready when this is gone")
    quiet: Duration = Field(0.5, description="without wait and gone: so long nothing was asked for")
    within: Duration = Field(
        30.0, description="longest time until the page is ready: then it failed, with what it lacks"
    )
    per_row: Strings = Field(
        [], description="steps inside each row, once the page is ready; a row without what they want is passed over"
    )
    next: str | None = Field(
        None,
        min_length=1,
        description="how the listing goes on in the same page: click EXPRESSION, press KEY, scroll or scroll EXPRESSION; each "
        "turn is a page of the listing, with the rows that were not there before",
    )
    data_from: Strings = Field(
        [],
        description="background replies whose JSON is the data of the page, which JSONPath reads: patterns (* and ?) of their "
        "addresses; script:FILE for what a script of do returned",
    )
    data_sent: str | None = Field(
        None, min_length=1, description="with data_from: a pattern of the body that such a request was sent with"
    )
    size: str = Field("1280x800", pattern=r"^[1-9]\d{2,3}x[1-9]\d{2,3}$", description="the window, in CSS pixels")
    language: str = Field("", description="the reader's language, as the page is told: en-GB; default: the machine's")
    zone: str = Field("", description="the reader's time zone: Europe/London; default: the machine's")
    dark: bool = Field(False, description="whether the page is told that its reader wants dark colours")
    pictures: bool = Field(False, description="whether pictures are loaded; of all pages, when one kind wants it")


def _as_browser(value: object) -> object:
    return {} if value is True else None if value is False else value


BrowserOrTrue = Annotated[BrowserPlan, BeforeValidator(_as_browser, json_schema_input_type=bool | BrowserPlan)]


class PagePlan(Part):
    """A kind of page: what stands on it and where it leads."""

    expect: Expressions | None = Field(None, description="a page without it counts as failed, never as empty")
    empty: Expressions | None = Field(None, description="proves that there is nothing (any more)")
    parse: Literal["html", "xml", "json", "csv", "excel"] | None = Field(
        None, description="how replies are read; default as they say themselves"
    )
    sheet: str | None = Field(None, description="of a workbook the sheet to read, of a zip the file; default the first")
    heading_line: Annotated[int, Field(ge=1)] | Literal["none"] | None = Field(
        None,
        description='of a file with columns the line that names them, from 1; "none": no line does, they are c1, c2, …',
    )
    call: str | None = Field(
        None, description="a function of the plan's code that gets the page and gives its rows, links and next page"
    )
    rows: Expressions | None = Field(None, description="expression for the rows; without it the page is one row")
    table: Name | None = Field(None, description="the table that the rows go to")
    completes: Name | None = Field(
        None, description="the table whose row, from which this page was opened, gets these fields"
    )
    total: FieldOrShort | None = Field(None, description="how many rows the site says there are, a field of the page")
    side_by_side: bool = Field(
        False, description="the fields pick whole columns, which must be of one length, and make the rows together"
    )
    fields: dict[Name, FieldOrShort] = Field({}, description="the columns")
    lists: dict[Name, ListPlan] = Field({}, description="tables inside the rows: nested records as child tables")
    next: NextOrShort | None = Field(None, description="how the listing goes on")
    open: dict[Name, OpenOrShort] = Field({}, description="page kind → the links that lead to such pages")
    browser: BrowserOrTrue | None = Field(
        None, description="true: such pages are read as a browser shows them; or how it does (a table)"
    )


class StartPlan(Part):
    """Where the crawl begins."""

    page: Name = Field(description="the kind of the start pages")
    addresses: Strings = Field(
        [],
        description="URI Templates (RFC 6570) over the inputs; or files beside the plan: pages/list.html, pages/*.html, pages/",
    )
    sitemap: Strings = Field(
        [], description="sitemaps, their indexes, or a robots.txt that names them: each page in them"
    )
    feed: Strings = Field([], description="RSS or Atom feeds: each page that they link to")
    only: Strings = Field([], description="of sitemap and feed: patterns of which the URL must match one")
    skip: Strings = Field([], description="of sitemap and feed: patterns of which the URL must match none")
    post: Literal["form", "json"] | None = Field(None, description="values go into the body of a POST")
    values: dict[str, Any] = Field({}, description="parameters of the body; {NAME} in a text is an input")
    null: Strings = Field([], description="parameters of a JSON body that are sent as null; a dot leads one level down")
    headers: dict[str, str] = Field({}, description="header fields")
    split: Strings = Field(
        [], description="inputs that are used only where a listing states more rows than it shows, one after the other"
    )
    most: Count | None = Field(None, description="with split: how many rows the site shows of a listing")


class RouteSecret(Part):
    """A named proxy whose address stands in the environment: it has a log-in."""

    secret_from: str = Field(min_length=1, description="the environment variable with the proxy's address")


Routes = Annotated[
    list[str] | dict[Name, str | RouteSecret],
    BeforeValidator(_as_list, json_schema_input_type=str | list[str] | dict[str, str | RouteSecret]),
]


class MannersPlan(Part):
    """How the site is treated."""

    contact: str = Field("", description="address for the site's owner, sent in the User-Agent")
    ignore_robots: str | None = Field(
        None,
        min_length=3,
        description="the reason why robots.txt need not be obeyed; without one it is obeyed (RFC 9309)",
    )
    language: str | None = Field(None, description="Accept-Language")
    certificates: str | None = Field(
        None,
        min_length=1,
        description="a file beside the plan with certificates (PEM) that are trusted besides those of this machine",
    )
    private: bool = Field(
        False,
        description="links and redirects may lead to private networks and this machine, though the plan begins elsewhere",
    )
    referer: bool = Field(
        False,
        description="each request says which page led to it (RFC 9110 §10.1.3), to other hosts the site alone",
    )
    headers: dict[str, str] = Field({}, description="header fields sent with every request; {NAME} is an input")
    pause: Duration = Field(1.0, description="least time between the starts of two requests to one host")
    jitter: float = Field(0.0, ge=0.0, le=10.0, description="each pause is longer by a random share of up to so much")
    slowest: Duration = Field(60.0, description="longest pause that trouble brings: refusals, breaks, slow answers")
    parallel: int = Field(2, ge=1, le=64, description="most open requests to one host")
    total: int = Field(16, ge=1, le=256, description="most open requests over all hosts")
    hours: str | None = Field(
        None, description='time of day in which the run may ask, by this machine\'s clock: "22:00-06:00"'
    )
    routes: Routes = Field(
        [],
        description="proxies, used in turn: http://HOST:PORT, https://…, socks5://…; or named ones, { north = …, south = … }: "
        "each start goes by each of them, or by the one of --route",
    )
    routes_from: str | None = Field(None, description="the environment variable with the proxies, blanks between")
    route_by: Literal["request", "session"] = Field(
        "request", description="another route for each request, or the same with its cookies until it fails"
    )
    driver: str | None = Field(
        None,
        min_length=1,
        description="of pages that a browser shows: the WebDriver server, by its path or the URL of one that runs; default that "
        "of WADI_WEBDRIVER, or the first on the PATH",
    )
    retry_post: bool = Field(False, description="a POST that failed may be sent again, too")
    retries: int = Field(4, ge=0, le=20, description="how often a failed request is sent again")
    first_wait: Duration = Field(1.0, description="wait before the first retry; each further one doubles it")
    longest_wait: Duration = Field(120.0, description="longest wait before a retry")
    rest: Duration = Field(
        30.0,
        description="first rest of a host that fails five times in a row; each of three (five where no host answers) "
        "is twice as long as the one before",
    )
    connect_within: Duration = Field(15.0, description="time to get a connection")
    answer_within: Duration = Field(60.0, description="time to the first byte of the reply")
    whole_within: Duration = Field(180.0, description="time to the last byte of the reply")


class LimitsPlan(Part):
    """Where the crawl ends even if the site goes on."""

    rows: Count | None = Field(None, description="rows of the first table, in reading order")
    pages: Count | None = Field(None, description="pages asked for, in reading order")
    depth: int | None = Field(None, ge=0, description="links opened one from the other, from the start pages on")
    time: Duration | None = Field(None, description="length of the crawl")
    bytes: Size | None = Field(None, description="size of all replies together, decoded")
    requests: Count | None = Field(None, description="requests sent, tries, redirects and robots.txt counted")
    page_size: Size = Field(50_000_000, description="largest reply, decoded")
    page_time: Duration = Field(30.0, description="longest time that reading a page may take")
    keep_pages: Days | None = Field(
        None,
        description='age after which "wadi runs --expire" removes the stored pages of a run: "90 d"; its rows stay',
    )


class LinksPlan(Part):
    """How addresses are evened out before they are asked for, so that one page has one address."""

    drop: Strings = Field([], description="parameters that are left out of links, by name or pattern (*)")
    sort: bool = Field(False, description="parameters of links are sorted by name")


class LoginPlan(Part):
    """How the run gets its session: by a form, by HTTP's own schemes, from a file of cookies, or from a saved request. Never
    written down."""

    address: str | None = Field(None, description="URI Template of the page with the form")
    scheme: Literal["basic", "bearer"] | None = Field(
        None,
        description="instead of a form: name and password (Basic, RFC 7617) or a token (Bearer, RFC 6750) sent with every "
        "request to the hosts of the start addresses",
    )
    form: Expressions | None = Field(None, description="which form; default the first with a field for a password")
    user_from: str | None = Field(
        None, description="the environment variable with the user name; asked for at the terminal where it is not set"
    )
    password_from: str | None = Field(
        None, description="the environment variable with the password, or asked for at the terminal"
    )
    token_from: str | None = Field(
        None, description="of bearer: the environment variable with the token, or asked for at the terminal"
    )
    values: dict[str, str] = Field({}, description="further fields of the form")
    do: Strings = Field(
        [],
        description="instead of the form: steps in a browser on the page at address, as in [page.X.browser]; {user} and "
        "{password} are what is logged in with",
    )
    check: Expressions | None = Field(None, description="is on the page after a log-in that worked")
    lost: Expressions | None = Field(
        None, description="is on a page when the session has ended: the run logs in again and asks once more"
    )
    cookies: str | None = Field(
        None, description="instead of a form: a file of cookies, in the text format of seven columns"
    )
    request: str | None = Field(
        None, description="instead of a form: a file with a request saved from a browser's network panel"
    )


class DerivePlan(Part):
    """A column computed from others of its row."""

    formula: str = Field(min_length=1, description="arithmetic over columns; a missing one makes it missing")
    type: TypeName = Field("number", description="type of the column")
    unit: str | None = Field(None, description="unit of the column")


class TablePlan(Part):
    """What a table must be."""

    key: Strings = Field([], description="columns that tell one record from another")
    duplicates: Literal["first", "last", "merge", "all"] = Field(
        "first", description="what becomes of rows with the same key: merge fills the gaps of the first from the others"
    )
    collect: Strings = Field(
        [], description="columns that hold a list of what all rows with the same key have in them, each value once"
    )
    occurrences: Name | None = Field(None, description="a further column with the number of rows that had the same key")
    columns: Strings = Field([], description='order of the columns; "…" stands for the rest')
    history: bool = Field(
        False,
        description="adds the columns first_seen, last_seen and gone: when this run or those before it had a record, which "
        "key tells; records that only earlier runs have are at the end",
    )
    derive: dict[Name, Annotated[DerivePlan, BeforeValidator(_as_formula, json_schema_input_type=str | DerivePlan)]] = (
        Field({}, description='columns computed from others: density = "flow / depth"')
    )
    call: str | None = Field(
        None,
        description="a function of the plan's code: gets each row as a dict and gives it back, changed, or None to reject it",
    )
    constant: dict[Name, str | int | float | bool] = Field({}, description="columns with the same value in every row")
    rename: dict[Name, str] = Field({}, description="column → its name in what is written")
    hash: Strings = Field([], description="columns whose values are replaced by a keyed hash: personal data")
    hash_key_from: str | None = Field(
        None, description="the environment variable with the key of hash; default a key of the run's own"
    )
    origin: list[Literal["url", "time", "place"]] = Field(
        [], description="adds where each row is from: origin_url, origin_time, origin_place"
    )
    disarm: bool = Field(False, description="in CSV and TSV, ' before texts that a spreadsheet would run as formulas")
    check: CheckPlan | None = Field(None, description="what the table must hold, looked at by wadi verify")
    prefer: Name | None = Field(None, description="the page kind whose value counts where two give the same column")


class Plan(Part):
    """A whole plan."""

    wadi: Literal[1] = Field(description="version of the plan language")
    title: str = Field("", description="what the plan is about")
    inputs: dict[Name, InputValue] = Field(
        {}, description="values for addresses and fields; a list makes one start for each"
    )
    code: str | None = Field(None, description="a Python file beside the plan with the analyst's own functions")
    start: StartPlan = Field(description="where the crawl begins")
    login: LoginPlan | None = Field(None, description="how the run gets its session")
    links: LinksPlan = Field(default_factory=LinksPlan, description="how addresses are evened out")
    manners: MannersPlan = Field(default_factory=MannersPlan, description="how the site is treated")
    limits: LimitsPlan = Field(default_factory=LimitsPlan, description="where the crawl ends")
    page: dict[Name, PagePlan] = Field(min_length=1, description="the kinds of pages")
    table: dict[Name, TablePlan] = Field({}, description="the tables")


PAGE_KEYS = frozenset(info.alias or name for name, info in PagePlan.model_fields.items())


def json_schema() -> dict[str, Any]:
    """The JSON Schema (draft 2020-12) of the plan language, for editors."""
    schema = Plan.model_json_schema(by_alias=True, mode="validation")
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema, "title": "Wadi plan"}
