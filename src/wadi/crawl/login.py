"""Logging in by a form: the page with the form, the form with name and password, and whether it worked.

Nothing of it is archived or logged: neither the page after it nor what was sent.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from wadi.crawl.extract import stands
from wadi.crawl.forms import credentials_names, form_of, password_form
from wadi.page.document import Document, NotADocument, read_document
from wadi.page.expressions import Expression, first_of
from wadi.page.nodes import Element, first
from wadi.problems import Place, Problem, shortened
from wadi.urls import NotAUrl, normalised
from wadi.web.client import Client
from wadi.web.messages import FetchFailed, Reply, Request
from wadi.web.rendering import Rendering


@dataclass(frozen=True)
class Login:
    """How to log in, and as whom: by a form, or as `rendering` says by what a browser does."""

    url: str
    user: str
    password: str = field(repr=False)
    form: tuple[Expression, ...] = ()
    values: dict[str, str] = field(default_factory=dict)
    check: tuple[Expression, ...] = ()
    rendering: Rendering | None = None


class LoginFailed(Exception):
    """Logging in did not work; `problem` says where and why."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.what)
        self.problem = problem


async def log_in(client: Client, login: Login) -> None:
    """Log in; the session's cookies are with the client afterwards. Raises LoginFailed."""
    document = await _page(client, Request(login.url, rendering=login.rendering))
    if login.rendering is not None:
        _check(document, login, "what is done there leaves the form on the page")
        return
    if document.kind != "html":
        raise _failed(login, f"the page is {document.kind.upper()} and has no form")
    found = first_of(login.form, document.scope, document) if login.form else [password_form(document)]
    element = found[0] if found else None
    if isinstance(element, Element) and element.tag != "form":
        element = first(element, "form")
    if not isinstance(element, Element):
        raise _failed(login, "there is no form for it on the page", 'form = "…" says which form it is')
    user_name, password_name = credentials_names(element)
    if password_name is None:
        raise _failed(login, "the form has no field for a password", 'form = "…" says which form it is')
    filled: dict[str, str] = dict(login.values)
    if user_name is not None:
        filled.setdefault(user_name, login.user)
    filled.setdefault(password_name, login.password)
    try:
        request = form_of(element, document).request(filled)
    except (ValueError, NotAUrl) as error:
        raise _failed(login, f"the form cannot be sent: {error}") from error
    _check(await _page(client, request), login, "the form came back")


def _check(after: Document, login: Login, form_again: str) -> None:
    """Raise LoginFailed where a page does not look as after a log-in that worked."""
    if login.check and not stands(login.check, after):
        wanted = " or ".join(f'"{sign.text}"' for sign in login.check)
        said = f' (its title: "{shortened(after.title, 60)}")' if after.title else ""
        raise _failed(
            login,
            f"the page after it has no {wanted}{said}",
            "wrong user name or password, or check names what is never there",
        )
    if not login.check and after.kind == "html" and password_form(after) is not None:
        raise _failed(login, form_again, "wrong user name or password")


def is_login_page(reply: Reply, login: Login) -> bool:
    """Whether a request ended at the log-in page although it was for another: the session has ended."""
    return normalised(reply.url).partition("?")[0] == normalised(login.url).partition("?")[0] and normalised(
        reply.request.url
    ) != normalised(reply.url)


async def _page(client: Client, request: Request) -> Document:
    try:
        reply = await client.fetch_unkept(request)
        return read_document(reply.body, reply.url, reply.content_type)
    except FetchFailed as failure:
        raise LoginFailed(Problem("login-failed", f"logging in: {failure.what}")) from failure
    except NotADocument as error:
        raise LoginFailed(Problem("login-failed", f"logging in: {error}", Place(request.url))) from error


def _failed(login: Login, what: str, now: str = "") -> LoginFailed:
    return LoginFailed(Problem("login-failed", f"logging in did not work: {what}", Place(login.url), now=now))
