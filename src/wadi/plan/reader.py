"""Reading a plan: from a file to the model, with every mistake reported at once and at its place."""

from __future__ import annotations

import difflib
import json
import re
import tomllib
from collections.abc import Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path as FilePath
from types import UnionType
from typing import Annotated, Any, Union, get_args, get_origin

from pydantic import BaseModel, ValidationError
from pydantic_core import ErrorDetails

from wadi.plan.beside import NotBeside, read_beside
from wadi.plan.code import BadCode, CodeNotApproved, Function, PlanCode
from wadi.plan.inputs import BadInputFile, resolved
from wadi.plan.lint import findings
from wadi.plan.model import PAGE_KEYS, InputValue, Plan
from wadi.plan.parts import fields_of, with_calls, with_parts
from wadi.plan.positions import Path, Positions
from wadi.plan.text import PlanText
from wadi.problems import Place, PlanError, Problem, UsageError, listed, nearest, shortened
from wadi.web.rendering import BadStep, step_of
from wadi.web.secrets import mark_of

_TOML_PLACE = re.compile(r"\s*\(at (?:line (\d+), column (\d+)|end of document)\)$")
_ROUNDS = 20
_EXPECTED = {
    "string_type": "a text",
    "int_type": "a whole number",
    "int_parsing": "a whole number",
    "float_type": "a number",
    "bool_type": "true or false",
    "list_type": "a list",
    "dict_type": "a table",
    "model_type": "a table of keys",
    "model_attributes_type": "a table of keys",
}


@dataclass(frozen=True)
class LoadedPlan:
    """A plan that is right, with its text. `name` is the file's name without its ending; `given` are inputs from outside,
    `given_limits` limits that were put over its own, `secrets` the environment variables of secret inputs, by
    input, `given_route` the one of its named routes that was chosen."""

    plan: Plan
    text: PlanText
    source: str
    inputs: Mapping[str, InputValue]
    functions: Mapping[str, Function] = field(default_factory=dict)
    given: Mapping[str, InputValue] = field(default_factory=dict)
    given_limits: Mapping[str, float] = field(default_factory=dict)
    secrets: Mapping[str, str] = field(default_factory=dict)
    scripts: Mapping[str, str] = field(default_factory=dict)
    given_route: str | None = None

    @property
    def folder(self) -> FilePath:
        """Where the plan stands, and the files that it names."""
        return FilePath(self.text.path).parent

    @property
    def name(self) -> str:
        return FilePath(self.text.path).stem

    @property
    def code(self) -> PlanCode | None:
        """The file with the analyst's own functions, if the plan has one."""
        return self.functions if isinstance(self.functions, PlanCode) else None

    def require_code(self) -> None:
        """Run the plan's code, if it has some. Raises UsageError where it was not approved, PlanError where it fails."""
        if self.code is None:
            return
        try:
            missing = [name for _, name in _calls(self.plan) if name not in self.code.loaded]
        except CodeNotApproved as error:
            now = "--with-code  runs it, and remembers that;  in Python  load_plan(…, with_code=True)"
            what = "the plan's own code, which was not approved on this machine"
            raise UsageError(Problem("code-not-approved", what, Place(str(error)), now=now)) from error
        except BadCode as error:
            raise PlanError(self.text.problem("bad-code", ("code",), str(error))) from error
        if missing:
            what = f'{self.plan.code} has no function "{missing[0]}"'
            raise PlanError(self.text.problem("bad-code", ("code",), what))

    def place(self, *path: str | int) -> str:
        """`springs.toml:25` for messages."""
        place = self.text.place(path, key=True)
        return f"{FilePath(place.source).name}:{place.line}"


def load_plan(path: str | FilePath, inputs: Mapping[str, InputValue] | None = None) -> LoadedPlan:
    """The plan in a file, with `inputs` from outside put over its own. Raises UsageError or PlanError with all mistakes."""
    return parse_plan(_file_text(FilePath(path)), str(path), inputs)


def plan_of_keys(keys: Mapping[str, Any], path: str, inputs: Mapping[str, InputValue] | None = None) -> LoadedPlan:
    """The plan of keys as a file has them; `path` is where that file would be. Raises UsageError for what no file can hold,
    PlanError with all mistakes."""
    from tomlkit import dumps
    from tomlkit.exceptions import TOMLKitError

    try:
        source = dumps({"wadi": 1, **keys})
    except (TOMLKitError, TypeError, ValueError) as error:
        raise UsageError(Problem("wrong-value", f"no plan can hold this: {error}", Place(path))) from error
    return parse_plan(source, path, inputs)


def parse_plan(source: str, path: str, inputs: Mapping[str, InputValue] | None = None) -> LoadedPlan:
    """The plan in a text; `path` is what messages call it."""
    data = _toml(source, path)
    text = PlanText(path, Positions(source))
    plan, problems = _model_of(data, text, inputs or {})
    functions, wrong = _functions(plan, text) if plan else ({}, [])
    scripts, unread = _scripts(plan, text) if plan else ({}, [])
    problems += [*wrong, *unread]
    if problems or plan is None:
        hidden = {problem.place.line for problem in problems if problem.code == "secret-in-plan"}
        problems = [replace(each, excerpt="") if each.place.line in hidden else each for each in problems]
        raise PlanError(sorted(set(problems), key=lambda p: (p.place.line or 0, p.place.column or 0, p.what)))
    section = data.get("inputs")
    secrets = {
        name: str(value["secret_from"])
        for name, value in (section or {}).items()
        if _is_secret(value) and name in plan.inputs
    }
    return LoadedPlan(plan, text, source, plan.inputs, functions, inputs or {}, secrets=secrets, scripts=scripts)


def _file_text(path: FilePath) -> str:
    place = Place(str(path))
    try:
        data = path.read_bytes()
    except FileNotFoundError as error:
        raise UsageError(Problem("no-such-file", "no such file", place, now=_did_you_mean(path))) from error
    except IsADirectoryError as error:
        raise UsageError(Problem("not-a-file", "this is a folder, a plan is a file", place)) from error
    except OSError as error:
        raise UsageError(Problem("not-readable", f"cannot be read: {error.strerror}", place)) from error
    try:
        return data.decode("utf-8-sig").replace("\r\n", "\n")
    except UnicodeDecodeError as error:
        good = data[: error.start].decode("utf-8")
        place = Place(str(path), good.count("\n") + 1, len(good) - (good.rfind("\n") + 1) + 1)
        raise PlanError(
            Problem(
                "not-utf8",
                f"byte 0x{data[error.start]:02x} is not UTF-8",
                place,
                now="save the plan as UTF-8 (TOML 1.0)",
            )
        ) from error


def _did_you_mean(path: FilePath) -> str:
    folder = path.parent
    names = [entry.name for entry in folder.iterdir() if entry.is_file()] if folder.is_dir() else []
    near = difflib.get_close_matches(path.name, names, n=1, cutoff=0.6)
    return f"did you mean {folder / near[0]}?" if near else ""


def _toml(source: str, path: str) -> dict[str, Any]:
    try:
        return tomllib.loads(source)
    except RecursionError as error:
        raise PlanError(Problem("not-toml", "not a plan: it is nested too deeply", Place(path))) from error
    except tomllib.TOMLDecodeError as error:
        message = str(error)
        found = _TOML_PLACE.search(message)
        lines = source.splitlines() or [""]
        line, column = (int(found[1]), int(found[2])) if found and found[1] else (len(lines), len(lines[-1]) + 1)
        what = _TOML_PLACE.sub("", message)
        excerpt = shortened(lines[line - 1], 110) if line <= len(lines) else ""
        problem = Problem("not-toml", f"not TOML: {what[:1].lower()}{what[1:]}", Place(path, line, column), excerpt)
        raise PlanError(problem) from error
    except ValueError as error:  # a whole number of thousands of digits
        raise PlanError(Problem("not-toml", f"not a plan: {error}".partition(";")[0], Place(path))) from error


def _model_of(
    data: dict[str, Any], text: PlanText, inputs: Mapping[str, InputValue]
) -> tuple[Plan | None, list[Problem]]:
    """The model and all that is wrong with it.

    What does not fit the model is taken out and the rest read again, so that one round names every mistake; what
    stays is linted, but for the findings that only the taking out has caused.
    """
    problems = [*_wrong_headings(data, text), *_given_secrets(data, text, inputs)]
    for problem_path in [p for p, _ in _misplaced(data)]:
        _drop(data, problem_path)
    gone: list[Path] = []
    for _ in range(_ROUNDS):
        try:
            plan = Plan.model_validate(_with_inputs(data, inputs))
        except ValidationError as error:
            details = error.errors(include_url=False)
            # One mistake for each place: what may be of several kinds is none of them.
            by_path = {_path_of(detail, data): detail for detail in reversed(details)}
            new = [path for path in reversed(by_path) if path not in gone]
            problems += [_described(by_path[path], path, text) for path in new]
            gone += new
            # Deeper and later ones first, so that what is left keeps its path. What does not fit a second time stands in for
            # what did not: then all around it goes.
            for path in sorted(by_path, key=lambda p: (len(p), str(p[-1:])), reverse=True):
                _drop(data, path if path in new else path[:-1])
        else:
            plan, unread = _with_files(with_parts(with_calls(plan)), text)
            problems += unread
            found = findings(plan, text, set(inputs)) if not unread else []
            return plan, problems + [p for path, p in found if not _caused_by(path, gone)]
        if not data:
            break
    return None, problems


def _with_files(plan: Plan, text: PlanText) -> tuple[Plan, list[Problem]]:
    """The plan with the values of its input files, which stand beside it, and what is wrong with those files."""
    values: dict[str, InputValue] = {}
    problems: list[Problem] = []
    for name in plan.inputs:
        try:
            values[name] = resolved(plan.inputs, name, FilePath(text.path).parent)
        except BadInputFile as error:
            path = ("inputs", name, "file")
            problems.append(text.problem("bad-input-file", path, f'input "{name}": {error}'))
    return (plan.model_copy(update={"inputs": values}), problems) if not problems else (plan, problems)


def _scripts(plan: Plan, text: PlanText) -> tuple[dict[str, str], list[Problem]]:
    """The scripts that a browser is to run, by their files, and what is wrong with them."""
    scripts: dict[str, str] = {}
    wrong = []
    for name, page in plan.page.items():
        for place, sentence in enumerate(page.browser.do if page.browser else ()):
            with suppress(BadStep):  # lint says so
                step = step_of(sentence)
                if step.verb != "run":
                    continue
                file, path = step.arguments[0], ("page", name, "browser", "do", place)
                try:
                    if FilePath(file).name != file:
                        raise NotBeside("a script is beside the plan: a name without a folder is wanted")
                    scripts[file] = read_beside(FilePath(text.path).parent, file).decode("utf-8-sig")
                except NotBeside as error:
                    wrong.append(text.problem("bad-code", path, str(error)))
                except OSError:
                    wrong.append(text.problem("bad-code", path, f"no such file beside the plan: {file}"))
                except UnicodeDecodeError:
                    wrong.append(text.problem("bad-code", path, f"{file} is no text in UTF-8"))
    return scripts, wrong


def _functions(plan: Plan, text: PlanText) -> tuple[Mapping[str, Function], list[Problem]]:
    """The functions of the plan's code, and what is wrong with it or with those that the plan calls."""
    called = list(_calls(plan))
    if plan.code is None:
        now = 'code = "….py" names the file with the function'
        return {}, [
            text.problem("bad-code", path, f'"{name}" is called, but there is no code', now=now)
            for path, name in called
        ]
    path: Path = ("code",)
    if FilePath(plan.code).name != plan.code:
        return {}, [text.problem("bad-code", path, "the code is beside the plan: a name without a folder is wanted")]
    try:
        functions = PlanCode(FilePath(text.path).parent / plan.code)
    except BadCode as error:
        return {}, [text.problem("bad-code", path, str(error))]
    wrong = []
    for path, name in called:
        if name not in functions:
            near = nearest(name, functions)
            now = f'did you mean "{near}"?' if near else f"functions there: {listed(functions)}"
            wrong.append(text.problem("bad-code", path, f'{plan.code} has no function "{name}"', now=now))
    return functions, wrong


def _calls(plan: Plan) -> Iterator[tuple[Path, str]]:
    """Every function that the plan calls, with the path where it says so."""
    for page, kind in plan.page.items():
        if kind.call:
            yield ("page", page, "call"), kind.call
        for target, link in kind.open.items():
            if link.call:
                yield ("page", page, "open", target, "call"), link.call
        for path, spec, _ in fields_of(page, kind):
            for key in ("clean", "adjust"):
                for index, sentence in enumerate(getattr(spec, key)):
                    words = sentence.split()
                    if len(words) == 2 and words[0] == "call":
                        yield (*path, key, index), words[1].strip("'\"")
    for name, table in plan.table.items():
        if table.call:
            yield ("table", name, "call"), table.call


def _with_inputs(data: dict[str, Any], inputs: Mapping[str, InputValue]) -> dict[str, Any]:
    if not inputs:
        return data
    section = data.get("inputs")
    known = section if isinstance(section, dict) else {}
    # A run that is opened again knows the mark of a secret, which stays what the plan says.
    given = {
        name: value for name, value in inputs.items() if not (_is_secret(known.get(name)) and value == mark_of(name))
    }
    return {**data, "inputs": {**known, **given}}


def _is_secret(value: object) -> bool:
    return isinstance(value, dict) and "secret_from" in value


def _given_secrets(data: dict[str, Any], text: PlanText, inputs: Mapping[str, InputValue]) -> Iterator[Problem]:
    """Secrets that are given from outside in the open."""
    section = data.get("inputs")
    for name, value in section.items() if isinstance(section, dict) else ():
        if _is_secret(value) and name in inputs and inputs[name] != mark_of(name):
            what = f'input "{name}" is a secret, and is not given by --input, where it would be seen'
            now = f"{value['secret_from']}=… in the environment"
            yield text.problem("secret-in-plan", ("inputs", name), what, now=now)


def _misplaced(data: dict[str, Any]) -> Iterator[tuple[Path, str]]:
    """Fields in their short form that are named like a key of the page, with the page's name."""
    pages = data.get("page")
    for page, body in pages.items() if isinstance(pages, dict) else ():
        fields = body.get("fields") if isinstance(body, dict) else None
        for name, value in fields.items() if isinstance(fields, dict) else ():
            if name in PAGE_KEYS and isinstance(value, str | list):
                yield ("page", page, "fields", name), page


def _wrong_headings(data: dict[str, Any], text: PlanText) -> Iterator[Problem]:
    for path, page in _misplaced(data):
        name = path[-1]
        yield text.problem(
            "wrong-heading", path, f'"{name}" stands under [page.{page}.fields], but is a key of the page', key=True,
            now=f'move the line up under [page.{page}]; a column of this name is written  {name} = {{ at = "…" }}',
        )  # fmt: skip


def _path_of(detail: ErrorDetails, data: dict[str, Any]) -> Path:
    """The part of an error's location that stands in the plan: short forms and union branches have steps that do not."""
    path: list[str | int] = []
    current: Any = data
    missing = detail["type"] == "missing"
    for step in detail["loc"]:
        inside = isinstance(current, dict) and step in current
        inside = inside or (isinstance(current, list) and isinstance(step, int) and step < len(current))
        if not inside:
            break
        current = current[step]
        path.append(step)
    return (*path, str(detail["loc"][-1])) if missing else tuple(path)


def _described(detail: ErrorDetails, path: Path, text: PlanText) -> Problem:
    kind, where = detail["type"], _heading(path[:-1])
    if kind == "extra_forbidden":
        known = sorted(_keys_at(path[:-1]))
        near = nearest(str(path[-1]), known)
        now = f'did you mean "{near}"?' if near else f"keys here: {listed(known, 20)}"
        return text.problem("unknown-key", path, f'unknown key "{path[-1]}" in {where}', key=True, now=now)
    if kind == "missing":
        return text.problem("missing-key", path, f'"{path[-1]}" is missing in {where}', key=True, now=_help_for(path))
    shown = shortened(json.dumps(detail["input"], ensure_ascii=False, default=str), 40)
    if kind in _EXPECTED:
        what = f"{_named(path)}: expected {_EXPECTED[kind]}, got {shown}"
        return text.problem("wrong-type", path, what, now=_help_for(path))
    if kind == "literal_error":
        choices = re.findall(r"'([^']*)'", str(detail.get("ctx", {}).get("expected", "")))
        near = nearest(str(detail["input"]), choices)
        is_near = near and isinstance(detail["input"], str)
        now = f'did you mean "{near}"?' if is_near else f"choices: {listed(choices, 20)}"
        return text.problem("wrong-value", path, f'"{path[-1]}" in {where} cannot be {shown}', now=now)
    words = (
        detail["msg"]
        .replace("Input should be", "it should be")
        .replace("String should match pattern", "it should match")
    )
    if detail["loc"][-1:] == ("[key]",):
        words = "a name is letters, digits and underscores, and begins with a letter"
    return text.problem("wrong-value", path, f'"{path[-1] if path else "plan"}" in {where}: {words}, not {shown}')


def _named(path: Path) -> str:
    """What stands at a path, in words: a key, or an item of its list."""
    return f"{path[-2]}, item {path[-1] + 1}" if isinstance(path[-1], int) else str(path[-1])


def _heading(path: Path) -> str:
    """The heading that a path stands under, in words."""
    if not path:
        return "the plan"
    if len(path) >= 3 and path[-2] == "fields":
        return f'field "{path[-1]}"'
    return f"[{'.'.join(str(step) for step in path)}]"


def _parts_at(path: Path) -> list[type[BaseModel]]:
    """The parts of the model that may stand at a path: found by going down its fields, so that nothing of it is said twice."""
    found: list[Any] = [Plan]
    for step in path:
        found = [inner for kind in found for inner in _inside(kind, step)]
    return [kind for kind in found if isinstance(kind, type) and issubclass(kind, BaseModel)]


def _inside(kind: Any, step: str | int) -> list[Any]:
    """What may stand under a key of a part or a table, or at a place of a list."""
    if isinstance(kind, type) and issubclass(kind, BaseModel):
        named = ((info.alias or name, info.annotation) for name, info in kind.model_fields.items())
        return [choice for name, annotation in named if name == step for choice in _choices(annotation)]
    arguments = get_args(kind)
    if get_origin(kind) is dict:
        return _choices(arguments[1])
    return _choices(arguments[0]) if get_origin(kind) is list and isinstance(step, int) else []


def _choices(annotation: Any) -> list[Any]:
    """The types that an annotation allows."""
    if get_origin(annotation) is Annotated:
        return _choices(get_args(annotation)[0])
    if get_origin(annotation) in (Union, UnionType):
        return [choice for inner in get_args(annotation) for choice in _choices(inner)]
    return [annotation]


def _keys_at(path: Path) -> list[str]:
    parts = _parts_at(path)
    return list(dict.fromkeys(info.alias or name for part in parts for name, info in part.model_fields.items()))


def _help_for(path: Path) -> str:
    for part in _parts_at(path[:-1]):
        for name, info in part.model_fields.items():
            if (info.alias or name) == path[-1]:
                return f"{path[-1]}: {info.description}" if info.description else ""
    return ""


def _drop(data: Any, path: Path) -> None:
    """Take what stands at a path out; a key that is missing takes the table around it along."""
    *way, last = path or ("",)
    if not path:
        data.clear()
        return
    for step in way:
        if isinstance(data, dict) and step not in data:
            return  # gone with something above it
        data = data[step]
    if isinstance(data, dict) and last not in data:
        data.clear()
    elif isinstance(data, list) and isinstance(last, int):
        data[last] = "."
    else:
        del data[last]


def _caused_by(path: Path, gone: list[Path]) -> bool:
    """Whether a finding speaks of something around what was taken out."""
    return any(path[: len(lost)] == lost or lost[: len(path)] == path for lost in gone)


def with_route(loaded: LoadedPlan, name: str | None) -> LoadedPlan:
    """The plan with one of its named routes alone; None leaves it as it is. Raises UsageError for a route that it has not."""
    if name is None:
        return loaded
    routes = loaded.plan.manners.routes
    known = routes if isinstance(routes, dict) else {}
    if name not in known:
        now = f"routes of this plan: {listed(known)}" if known else '[manners] routes = { north = "http://HOST:PORT" }'
        raise UsageError(Problem("bad-route", f'the plan has no route "{name}"', Place(loaded.text.path), now=now))
    manners = loaded.plan.manners.model_copy(update={"routes": {name: known[name]}})
    return replace(loaded, plan=loaded.plan.model_copy(update={"manners": manners}), given_route=name)


def with_limits(loaded: LoadedPlan, **limits: float | None) -> LoadedPlan:
    """The plan with limits (`rows`, `pages`, `depth`, `time`, `bytes`) put over its own; None leaves one as it is."""
    asked = {name: value for name, value in limits.items() if value is not None}
    if not asked:
        return loaded
    changed = loaded.plan.limits.model_copy(update=asked)
    plan = loaded.plan.model_copy(update={"limits": changed})
    return replace(loaded, plan=plan, given_limits={**loaded.given_limits, **asked})
