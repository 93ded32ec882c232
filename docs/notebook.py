"""Makes the notebook of the examples, with its outputs, on the sample site:  python docs/notebook.py

Cells are written here; what they give is what Python gives, as a notebook shows it (`_repr_html_`, else `repr`).
"""

from __future__ import annotations

import ast
import contextlib
import io
import json
import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

ROOT = Path(__file__).parent.parent
NOTEBOOK = ROOT / "examples" / "springs.ipynb"
SITE = "http://127.0.0.1:8700"
CELLS = [
    ("markdown", "# Wadi in a notebook\n\nOn the sample site. Keep it up in a terminal: `wadi demo --serve --port 8700`."),
    ("code", "import wadi\n\nSITE = 'http://127.0.0.1:8700'"),
    ("markdown", "## Look at a page\n\nWhat repeats on it? The marks are those of `wadi inspect`."),
    ("code", "page = wadi.open_page(f'{SITE}/register')\npage"),
    ("code", "flow = {'at': '.flow', 'type': 'number', 'locale': 'fr', 'unit': 'l/s'}\npage.rows('li[data-code]', name='h3 a', flow=flow).head()"),
    ("markdown", "## Run a plan\n\n`with` closes the run at the end of the cell; here it stays open for the cells below."),
    ("code", "run = wadi.run('gauges.toml', {'site': SITE})\nrun"),
    ("code", "gauges = run.table()\ngauges.head()"),
    ("markdown", "## Trust it"),
    ("code", "wadi.verify(run)"),
    ("code", "wadi.profile(run)[0]"),
    ("markdown", "## What changed?\n\nAgainst a table with a row less and a flow that was corrected."),
    (
        "code",
        "older = gauges.copy()\nolder.loc[0, 'flow'] = 9.9\nolder.iloc[:-1].to_json('older.jsonl', orient='records', lines=True)\n"
        "wadi.export(run, 'newer.jsonl')\nwadi.compare('older.jsonl', 'newer.jsonl', key=['code'])[0]",
    ),
    ("code", "run.close()"),
]  # fmt: skip


def execute(source: str, names: dict[str, Any]) -> tuple[str, Any]:
    """Run a cell; what it printed, and the value of its last line if that is an expression."""
    tree = ast.parse(source)
    last = tree.body.pop() if tree.body and isinstance(tree.body[-1], ast.Expr) else None
    printed = io.StringIO()
    with contextlib.redirect_stdout(printed):
        exec(compile(tree, "cell", "exec"), names)
        value = eval(compile(ast.Expression(last.value), "cell", "eval"), names) if last is not None else None
    return printed.getvalue(), value


def notebook(
    replace: Callable[[str], str] = lambda source: source, back: Callable[[str], str] = lambda text: text
) -> dict[str, Any]:
    """The notebook (nbformat 4.5), executed in this process and folder; `replace` changes sources before they run, `back` what
    comes of them."""
    names: dict[str, Any] = {}
    cells: list[dict[str, Any]] = []
    count = 0
    for number, (kind, source) in enumerate(CELLS):
        cell: dict[str, Any] = {
            "cell_type": kind,
            "id": f"cell-{number}",
            "metadata": {},
            "source": source.splitlines(True),
        }
        if kind == "code":
            count += 1
            printed, value = execute(replace(source), names)
            outputs: list[dict[str, Any]] = []
            if printed:
                outputs.append({"output_type": "stream", "name": "stdout", "text": back(printed).splitlines(True)})
            if value is not None:
                data = {"text/plain": back(repr(value)).splitlines(True)}
                if (shown := getattr(value, "_repr_html_", None)) is not None and (html := shown()) is not None:
                    data["text/html"] = back(html).splitlines(True)
                outputs.append(
                    {"output_type": "execute_result", "execution_count": count, "metadata": {}, "data": data}
                )
            cell |= {"execution_count": count, "outputs": outputs}
        cells.append(cell)
    kernel = {"kernelspec": {"display_name": "Python 3", "language": "python", "name": "python3"}}
    return {"cells": cells, "metadata": kernel, "nbformat": 4, "nbformat_minor": 5}


def main() -> None:
    sys.path.insert(0, str(ROOT / "tests"))
    from conftest import serving
    from wadi.demo.site import application

    with tempfile.TemporaryDirectory() as folder, serving(application) as site:
        (Path(folder) / "gauges.toml").write_bytes((ROOT / "examples" / "gauges.toml").read_bytes())
        os.chdir(folder)
        made = notebook(lambda source: source.replace(SITE, site), lambda text: text.replace(site, SITE))
    NOTEBOOK.write_text(json.dumps(made, indent=1, ensure_ascii=False) + "\n", "utf-8")


if __name__ == "__main__":
    main()
