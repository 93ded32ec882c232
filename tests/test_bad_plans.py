"""Plans that would do harm or nothing: a clear word, at its line, before anything is asked for."""

from __future__ import annotations

from pathlib import Path

import pytest

from small_host import plan_of
from wadi.problems import PlanError

GOOD = """area = ["n", "s"]
[start]
page = "list"
addresses = ["{+site}/l{?area}"]
START
[page.list]
rows = "li"
table = "t"
PAGE
[page.list.fields]
name = "b"
FIELDS
[table.t]
TABLE
"""


@pytest.mark.parametrize(
    ("where", "lines", "code", "words"),
    [
        ("START", 'split = ["area"]', "missing-key", "most says how many rows"),
        ("START", 'split = ["area"]\nmost = 9', "missing-key", "its stated total is needed"),
        ("START", 'split = ["other"]\nmost = 9', "unset-input", 'no input "other"'),
        ("START", 'values = { a = 1 }', "both-keys", "values go into the body of a POST"),
        ("START", '[login]\nuser_from = "U"', "missing-key", "login does not say how"),
        ("START", '[login]\naddress = "{+site}/x"\ncookies = "c.txt"', "both-keys", "one way to log in"),
        ("START", '[login]\naddress = "{+site}/x"\nvalues = { password = "x" }', "secret-in-plan", "looks like a secret"),
        ("START", '[login]\naddress = "{+nowhere}/x"', "unset-input", 'nothing sets the input "nowhere"'),
        ("START", '[limits]\ndepth = -1', "wrong-value", "depth"),
        ("START", '[limits]\ntime = "soon"', "wrong-value", "a length of time is wanted"),
        ("PAGE", 'next = { count = { parameter = "p" }, at = "a" }', "both-keys", "mixes 2 methods (link and count)"),
        ("PAGE", 'next = { rel = "next", send = { c = "b" } }', "both-keys", "mixes 2 methods (link and send)"),
        ("PAGE", 'next = { post = "form" }', "missing-key", "next does not say how"),
        ("PAGE", 'next = { count = { parameter = "p" }, end_when = "total" }', "missing-key", "needs the total"),
        ("PAGE", 'total = "i"\nnext = { at = "a", end_when = "total" }', "both-keys", "does not overrule a link"),
        ("PAGE", 'next = { count = { parameter = "p" }, address = "/l/{q}" }', "unset-input", 'nothing gives "q" a value'),
        ("PAGE", 'next = { count = { parameter = "p" }, address = "/l/{p" }', "bad-template", "a brace is not closed"),
        ("PAGE", 'next = { at = "a", headers = { X = "{tok}" } }', "unset-input", 'nothing gives "tok" a value'),
        ("PAGE", 'next = { count = { parameter = "p", step = 0 } }', "wrong-value", "a step of 0"),
        ("PAGE", 'next = { count = { parameter = "p", step = "row" } }', "wrong-type|wrong-value", "step"),
        ("PAGE", 'open = { list = { within = "main" } }', "missing-key", "does not say what leads there"),
        ("PAGE", 'open = { list = { at = "a", form = "form" } }', "both-keys", "not by at and by form"),
        ("PAGE", 'open = { list = { form = "form", text = "x" } }', "both-keys", "text is about links"),
        ("PAGE", 'open = { list = { at = "a", values = { a = 1 } } }', "both-keys", "values are not sent"),
        ("PAGE", 'open = { list = { at = "a", call = "f" } }', "bad-code", "there is no code"),
        ("PAGE", "side_by_side = true", "both-keys", "columns make the rows themselves"),
        ("PAGE", 'lists = { x = { rows = "i", carry = "nam", fields = { y = "u" } } }', "unknown-column", 'did you mean "name"'),
        ("PAGE", 'lists = { t = { rows = "i", fields = { y = "u" } } }', "both-keys", 'page rows go to the table "t"'),
        ("PAGE", 'lists = { x = { rows = "i", carry = "name", fields = { name = "u" } } }', "double-column", "is carried as well"),
        ("PAGE", 'lists = { x = { rows = "//i", fields = { y = "u" } } }', "whole-document", "from every row"),
        ("PAGE", 'lists = { x = { rows = "i", fields = { y = { from = "link" } } } }', "wrong-value", "takes nothing from"),
        ("FIELDS", 'pic = { at = "img", type = "file", name = "../{name}" }', "bad-file-name", "leads out of the folder"),
        ("FIELDS", 'pic = { at = "img", type = "file", name = "/tmp/{name}" }', "bad-file-name", "leads out of the folder"),
        ("FIELDS", 'pic = { at = "img", type = "file", name = "pic" }', "bad-file-name", "the same name"),
        ("FIELDS", 'pic = { at = "img", type = "file", name = "{nam}" }', "unknown-column", 'did you mean "name"'),
        ("FIELDS", 'pic = { at = "img", name = "{name}" }', "both-keys", 'for fields of type = "file"'),
        ("FIELDS", 'pic = { at = "img", type = "file" }\npic_size = "i"', "double-column", "which is of type file"),
        ("FIELDS", 'x = { under = "A", from = "url" }', "both-keys", "under is about the row"),
        ("FIELDS", 'x = { from = "heading" }', "both-keys", "needs at"),
        ("TABLE", 'key = "name"\ncolumns = []\n[table.u]', "unknown-table", '"u"'),
    ],
)  # fmt: skip
def test_mistakes_are_named(tmp_path: Path, where: str, lines: str, code: str, words: str) -> None:
    plan = GOOD.replace(where, lines)
    for other in ("START", "PAGE", "FIELDS", "TABLE"):
        plan = plan.replace(f"\n{other}\n", "\n")
    with pytest.raises(PlanError) as caught:
        plan_of(tmp_path, plan)
    problems = caught.value.problems
    assert [p for p in problems if p.code in code.split("|") and words in str(p) and (p.place.line or 0) > 1], str(
        caught.value
    )


@pytest.mark.parametrize(
    ("inputs", "words"),
    [
        ('area = "{area}x"', 'input "area" is made of itself'),
        ('area = "{path}"\npath = "{+area}"', 'input "area" is made of "path"'),
        ("n = [1, 2, 3]\narea = 'x'", 'nothing uses the input "n"'),
        ("\n".join(f"i{n} = [{', '.join(map(str, range(100)))}]" for n in range(4)) + "\narea = 'x'", "100,000,000 addresses, more than 1,000,000"),
    ],
)  # fmt: skip
def test_inputs_that_go_in_circles_or_explode(tmp_path: Path, inputs: str, words: str) -> None:
    plan = GOOD.replace('area = ["n", "s"]', inputs).replace("{?area}", "{?area,i0,i1,i2,i3}" if "i0" in inputs else "{?area,path}" if "path" in inputs else "{?area}")  # fmt: skip
    for other in ("START", "PAGE", "FIELDS", "TABLE"):
        plan = plan.replace(f"\n{other}\n", "\n")
    with pytest.raises(PlanError) as caught:
        plan_of(tmp_path, plan)
    assert words in str(caught.value)


@pytest.mark.parametrize(
    ("code", "words"),
    [
        ("own.py", "no such file"),
        ("../own.py", "a name without a folder is wanted"),
        ("broken.py", "broken.py:2: SyntaxError"),
        ("good.py", 'has no function "kep"'),
    ],
)
def test_code_that_cannot_be_used(tmp_path: Path, code: str, words: str) -> None:
    (tmp_path / "broken.py").write_text("x = 1\ndef f(:\n")
    (tmp_path / "good.py").write_text("def keep(url, text):\n    return True\n")
    plan = GOOD.replace("PAGE", 'open = { list = { at = "a", call = "kep" } }')
    for other in ("START", "FIELDS", "TABLE"):
        plan = plan.replace(f"\n{other}\n", "\n")
    with pytest.raises(PlanError) as caught:
        plan_of(tmp_path, plan, top=f'code = "{code}"')
    assert words in str(caught.value)
