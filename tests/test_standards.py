"""The published suites of the standards that pages are read by, with one short list of differences for each.

A difference that is not listed fails, and so does one that is listed and is none any more.
"""

from __future__ import annotations

import codecs
import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import turbohtml

from wadi.page.decode import meta_encoding
from wadi.page.document import read_document
from wadi.page.expressions import BadExpression, compile_expression
from wadi.page.jsonpath import BadPath, compile_path
from wadi.page.nodes import Element
from wadi.urls import NotAUrl, resolve

SUITES = Path(__file__).parent / "suites"


def _sections(path: Path) -> Iterator[dict[str, str]]:
    """The cases of a .dat file: what stands under each `#heading`."""
    case: dict[str, str] = {}
    name = ""
    for line in path.read_bytes().decode("utf-8").split("\n"):
        if line == "#data" and "data" in case:
            yield {key: text.removesuffix("\n") for key, text in case.items()}
            case = {}
        if line.startswith("#") and (line[1:].isidentifier() or line[1:] in _HEADINGS):
            name = line[1:]
            case[name] = ""
        else:
            case[name] = case.get(name, "") + line + "\n"
    yield {key: text.rstrip("\n") if key != "data" else text.removesuffix("\n") for key, text in case.items()}


_HEADINGS = ("document-fragment", "script-on", "script-off", "new-errors")


AS_LISTED: tuple[dict[str, str], set[str]] = {}, set()


def _unlisted(found: dict[str, str], differences: dict[str, str]) -> tuple[dict[str, str], set[str]]:
    """Cases that came out otherwise and are not among those that may; and those that are listed, and no difference any more."""
    return {case: told for case, told in found.items() if case not in differences}, set(differences) - set(found)


# -- HTML Standard, tree construction (§13.2.6)

_SELECT = "the content model of <select> was opened in 2025; the suite is older"
_PROCESSING = "processing instructions are nodes of their own by now; the suite has them as comments"
TREES = {
    '<?import namespace="foo" implementation="#bar">': _PROCESSING,
    "<!DOCTYPE html><select><menuitem></select>": _SELECT,
    "<select><b><option><select><option></b></select>X": _SELECT,
    "<?": _PROCESSING,
    "<?COMMENT?>": _PROCESSING,
    "<?COM--MENT?>": _PROCESSING,
    "<select><b><option><select><option></b></select>": _SELECT,
    "<!DOCTYPE html><body><select><svg></svg></select>": _SELECT,
    "<!DOCTYPE html><body><select><option><svg></svg></option></select>": _SELECT,
    "<!DOCTYPE html><body><table><tr><td><select><svg><g>foo</g><g>bar</g><p>baz</table><p>quux": _SELECT,
    "<!DOCTYPE html><body><table><select><svg><g>foo</g><g>bar</g><p>baz</table><p>quux": _SELECT,
    "<!doctype html><select><plaintext></plaintext>X": _SELECT,
    "<!doctype html><table><select><plaintext>a<caption>b": _SELECT,
    "<select><keygen>": _SELECT,
    "<!DOCTYPE html><body><select><math></math></select>": _SELECT,
    "<!DOCTYPE html><body><select><option><math></math></option></select>": _SELECT,
    "<!DOCTYPE html><body><table><tr><td><select><math><mi>foo</mi><mi>bar</mi><p>baz</table><p>quux": _SELECT,
    "<!DOCTYPE html><body><table><select><math><mi>foo</mi><mi>bar</mi><p>baz</table><p>quux": _SELECT,
}


def _tree(node: Any, depth: int = 0) -> Iterator[str]:
    """A tree in the notation of the suite."""
    pad = "| " + "  " * depth
    for child in node.children:
        if isinstance(child, turbohtml.Element):
            yield from _element(child, pad, depth)
        elif isinstance(child, turbohtml.Text | turbohtml.CData):
            yield f'{pad}"{child.data}"'
        elif isinstance(child, turbohtml.Comment):
            yield f"{pad}<!-- {child.data} -->"
        elif isinstance(child, turbohtml.Doctype):
            ids = f' "{child.public_id or ""}" "{child.system_id or ""}"' if child.public_id or child.system_id else ""
            yield f"{pad}<!DOCTYPE {child.name}{ids}>"
        elif isinstance(child, turbohtml.ProcessingInstruction):
            yield f"{pad}<?{child.target} {child.data}>"


def _element(element: turbohtml.Element, pad: str, depth: int) -> Iterator[str]:
    space = {"svg": "svg ", "math": "math "}.get(element.namespace.value, "")
    yield f"{pad}<{space}{element.tag}>"
    names = {re.sub(r"^(xlink|xml|xmlns):", r"\1 ", name) if space else name: name for name in element.attrs}
    for shown in sorted(names):
        yield f'{pad}  {shown}="{element.attr(names[shown]) or ""}"'
    if element.tag == "template" and not space:
        yield f"{pad}  content"
        for content in element.children:
            yield from _tree(content, depth + 2)
    else:
        yield from _tree(element, depth + 1)


def test_trees_are_those_of_the_html_standard() -> None:
    found = {}
    count = 0
    for path in sorted((SUITES / "tree-construction").glob("*.dat")):
        for case in _sections(path):
            if "document-fragment" in case or "document" not in case or "script-off" in case:
                continue  # pages are read whole, as by a browser in which scripts run
            tree = turbohtml.parse(case["data"], scripting=True, allow_declarative_shadow_roots=False)
            count += 1
            if (told := "\n".join(_tree(tree))) != case["document"].rstrip("\n"):
                found[case["data"]] = told
    assert count > 1400
    assert _unlisted(found, TREES) == AS_LISTED


# -- HTML Standard, determining the encoding (§13.2.3.2)

_WRITTEN = "the element is written by a script"
ENCODINGS: dict[str, str] = {
    "<!-- multi-script test -->\n<script>alert('step 1 of 3 (\"\u00fe\")'": _WRITTEN,
    "<!DOCTYPE HTML>\n<script>document.write('<meta charset=\"ISO-8": _WRITTEN,
}


def _encodings(path: Path) -> Iterator[tuple[bytes, str]]:
    for case in path.read_bytes().split(b"#data\n")[1:]:
        data, _, name = case.partition(b"\n#encoding\n")
        yield data, name.strip().decode().lower()


def test_encodings_are_those_of_the_prescan() -> None:
    found = {}
    for path in sorted((SUITES / "encoding").glob("*.dat")):
        for data, wanted in _encodings(path):
            has_mark = data.startswith(codecs.BOM_UTF8)
            named = "utf-8" if has_mark else (meta_encoding(data[:8192]) or "windows-1252").lower()
            if named != wanted:
                found[data.decode("latin-1")[:60]] = named
    assert _unlisted(found, ENCODINGS) == AS_LISTED


# -- URL Standard

_PUNYCODE = "the library takes labels whose Punycode says nothing; no such host is ever found"
URLS: dict[str, str] = {
    "http://a.b.c.xn--pokxncvks at ": _PUNYCODE,
    "http://10.0.0.xn--pokxncvks at ": _PUNYCODE,
    "http://a.b.c.XN--pokxncvks at ": _PUNYCODE,
    "http://a.b.c.Xn--pokxncvks at ": _PUNYCODE,
    "http://10.0.0.XN--pokxncvks at ": _PUNYCODE,
    "http://10.0.0.xN--pokxncvks at ": _PUNYCODE,
    "https://xn--/ at ": _PUNYCODE,
}


def test_urls_are_those_of_the_url_standard() -> None:
    found = {}
    cases = [
        case for case in json.loads((SUITES / "url/urltestdata.json").read_text("utf-8")) if isinstance(case, dict)
    ]
    for case in cases:
        base = case["base"] or ""
        if any("\ud800" <= character <= "\udfff" for character in case["input"]):
            continue  # halves of characters do not come out of decoded pages
        try:
            told = resolve(base, case["input"])
        except NotAUrl:
            told = "no URL"
        href = case.get("href", "")
        can_be_asked = href.startswith(("http:", "https:")) or (href.startswith("file:") and base.startswith("file:"))
        wanted = href if can_be_asked and not case.get("failure") else "no URL"
        if told != wanted:
            found[f"{case['input']} at {base}"] = told
    assert len(cases) > 800
    assert _unlisted(found, URLS) == AS_LISTED


# -- RFC 9535, JSONPath

PATHS: dict[str, str] = {}


def test_paths_are_those_of_rfc_9535() -> None:
    found = {}
    cases = json.loads((SUITES / "jsonpath/cts.json").read_text("utf-8"))["tests"]
    for case in cases:
        try:
            told = [node.value for node in compile_path(case["selector"])(case.get("document"))]
        except BadPath:
            told = "refused"
        wanted = ["refused"] if case.get("invalid_selector") else case.get("results") or [case.get("result")]
        if told not in wanted:
            found[case["name"]] = str(told)
    assert len(cases) > 600
    assert _unlisted(found, PATHS) == AS_LISTED


# -- Selectors Level 4, by the cases for querySelectorAll

_SCRIPTED = "scripts of the suite put further elements into its page"
_EMPTY = "Level 4 counts an element with blanks alone as empty; browsers wait"
_UNCLOSED = "a bracket that is not closed is refused, to be on the safe side"
_TARGET = "nobody went to a fragment of the page"
_PSEUDO = "what is no element of the page is refused, and not never found"
SELECTORS: dict[str, str] = {
    "*": _SCRIPTED,
    "#attr-presence [*|TiTlE]": _SCRIPTED,
    '#attr-value [align="center"': _UNCLOSED,
    "#pseudo-empty p:empty": _EMPTY,
    "#pseudo-empty :empty": _EMPTY,
    ":target": _TARGET,
    "#pseudo-element:first-line": _PSEUDO,
    "#pseudo-element::first-line": _PSEUDO,
    "#pseudo-element:first-letter": _PSEUDO,
    "#pseudo-element::first-letter": _PSEUDO,
    "#pseudo-element:before": _PSEUDO,
    "#pseudo-element::before": _PSEUDO,
    "#pseudo-element:after": _PSEUDO,
    "#pseudo-element::after": _PSEUDO,
    "#any-namespace *|div": _SCRIPTED,
    "#no-namespace |div": _SCRIPTED,
    "#no-namespace |*": _SCRIPTED,
    "::slotted(foo)": _PSEUDO,
    "::slotted(foo": _PSEUDO,
}
INVALID: dict[str, str] = {
    ".5cm": "a class that begins with a digit is taken at its word",
    ">*": "a selector may go on from the row",
}


def test_selectors_pick_as_by_the_dom() -> None:
    cases = json.loads((SUITES / "selectors/selectors.json").read_text("utf-8"))["valid"]
    document = read_document((SUITES / "selectors/content.xhtml").read_bytes(), "http://h/", "text/html", parse="html")
    found = {}
    for case in cases:
        if {"document", "html"} & set(case.get("exclude", ())):
            continue
        try:
            nodes = compile_expression(f"css: {case['selector']}").nodes(document.scope, document)
            told = [node.attr("id") or node.tag for node in nodes if isinstance(node, Element)]
        except BadExpression as error:
            told = [f"refused: {error.what}"]
        if told != case["expect"]:
            found[case["selector"]] = f"{told} for {case['expect']}"
    assert _unlisted(found, SELECTORS) == AS_LISTED


def test_what_is_no_selector_is_refused() -> None:
    cases = json.loads((SUITES / "selectors/selectors.json").read_text("utf-8"))["invalid"]
    found = {}
    for case in cases:
        try:
            compile_expression(f"css: {case['selector']}")
        except BadExpression:
            continue
        found[case["selector"]] = "taken"
    assert _unlisted(found, INVALID) == AS_LISTED
