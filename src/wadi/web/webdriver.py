"""A client for browsers by open standards: W3C WebDriver for the start and the end of a session, WebDriver BiDi for all between.

One session is one browser. Every command has a time of its own, and what never answers is a failure of that command. Sources:
W3C WebDriver (REC), WebDriver BiDi (W3C working draft).
"""

from __future__ import annotations

import asyncio
import contextlib
import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import aiohttp

COMMAND_WITHIN_S = 30.0
_START_WITHIN_S, _END_WITHIN_S = 60.0, 5.0
_EVENTS = (
    "network.beforeRequestSent", "network.responseStarted", "network.responseCompleted", "network.fetchError",
    "browsingContext.userPromptOpened", "browsingContext.downloadWillBegin", "browsingContext.contextCreated",
)  # fmt: skip
MOST_BODY_BYTES = 50_000_000
_ARGUMENTS = (
    "--headless", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking",
    "--disable-component-update", "--disable-sync", "--mute-audio", "--disable-extensions",
    "--hide-scrollbars", "--disable-features=BackForwardCache", "--remote-debugging-pipe",
)  # fmt: skip


class BrowserError(Exception):
    """A command that failed: the standard's `code` ("timeout", "invalid session id", "gone" where the connection is), and its
    words."""

    def __init__(self, code: str, what: str) -> None:
        super().__init__(what)
        self.code = code
        self.what = what


Listener = Callable[[str, Mapping[str, Any]], None]
"""Hears events: the name and what it says."""


class Session:
    """A browser that was started by a driver. Use `close` at the end."""

    def __init__(
        self, http: aiohttp.ClientSession, address: str, session: str, socket: aiohttp.ClientWebSocketResponse
    ) -> None:
        self._http = http
        self._address = address
        self._session = session
        self._socket = socket
        self._number = 0
        self._waiting: dict[int, asyncio.Future[Any]] = {}
        self._listeners: list[Listener] = []
        self._reading = asyncio.create_task(self._read())

    @classmethod
    async def start(cls, address: str, capabilities: Mapping[str, Any]) -> Session:
        """Start a browser by the driver at an address. Raises BrowserError."""
        http = aiohttp.ClientSession(timeout=aiohttp.ClientTimeout(total=_START_WITHIN_S))
        try:
            made = await _classic(
                http, "POST", f"{address}/session", {"capabilities": {"alwaysMatch": dict(capabilities)}}
            )
            url = made["capabilities"].get("webSocketUrl")
            if not isinstance(url, str):
                raise BrowserError("unsupported operation", "the driver has no WebDriver BiDi")
            socket = await http.ws_connect(url, max_msg_size=0)
        except (aiohttp.ClientError, TimeoutError, OSError) as error:
            await http.close()
            raise BrowserError("gone", f"the browser does not start: {error}") from error
        except BrowserError:
            await http.close()
            raise
        session = cls(http, address, made["sessionId"], socket)
        await session.send("session.subscribe", {"events": list(_EVENTS)})
        return session

    @property
    def is_open(self) -> bool:
        """Whether the browser is still there."""
        return not self._socket.closed and not self._reading.done()

    def listen(self, listener: Listener) -> Callable[[], None]:
        """Have events told to a function; gives what ends that."""
        self._listeners.append(listener)
        return lambda: self._listeners.remove(listener)

    async def send(self, method: str, parameters: Mapping[str, Any], *, within_s: float = COMMAND_WITHIN_S) -> Any:
        """The result of a BiDi command. Raises BrowserError: "timeout" where it does not answer in time, "gone" without a
        browser."""
        self._number += 1
        number = self._number
        answer: asyncio.Future[Any] = asyncio.get_running_loop().create_future()
        self._waiting[number] = answer
        try:
            await self._socket.send_json({"id": number, "method": method, "params": dict(parameters)})
            return await asyncio.wait_for(answer, within_s)
        except TimeoutError as error:
            raise BrowserError("timeout", f"{method} took longer than {within_s:g} s") from error
        except (ConnectionError, aiohttp.ClientError) as error:
            raise BrowserError("gone", "the browser is gone") from error
        finally:
            self._waiting.pop(number, None)

    async def collect(self, context: str) -> str:
        """Have the bodies of a window's replies kept; gives the name by which they are asked for. Raises BrowserError."""
        kept = {"dataTypes": ["request", "response"], "maxEncodedDataSize": MOST_BODY_BYTES, "contexts": [context]}
        return str((await self.send("network.addDataCollector", kept))["collector"])

    async def forget(self, collector: str) -> None:
        """Let go of the bodies that were kept."""
        with contextlib.suppress(BrowserError):
            await self.send("network.removeDataCollector", {"collector": collector}, within_s=_END_WITHIN_S)

    async def _read(self) -> None:
        """Hand answers and events on until the connection ends."""
        async for message in self._socket:
            if message.type is not aiohttp.WSMsgType.TEXT:
                continue
            said = message.json()
            if said.get("type") == "event":
                for listener in list(self._listeners):
                    listener(said["method"], said["params"])
            elif (answer := self._waiting.get(said.get("id", -1))) is not None and not answer.done():
                if said.get("type") == "error":
                    answer.set_exception(BrowserError(str(said.get("error")), str(said.get("message", ""))))
                else:
                    answer.set_result(said.get("result"))
        for answer in self._waiting.values():
            if not answer.done():
                answer.set_exception(BrowserError("gone", "the browser is gone"))

    async def close(self) -> None:
        """End the browser as the standard asks for; what does not answer is left to the driver's end."""
        with contextlib.suppress(BrowserError, aiohttp.ClientError, TimeoutError, OSError):
            ending = _classic(self._http, "DELETE", f"{self._address}/session/{self._session}", None)
            await asyncio.wait_for(ending, _END_WITHIN_S)
        self._reading.cancel()
        with contextlib.suppress(aiohttp.ClientError, OSError):
            await self._socket.close()
        await self._http.close()


async def _classic(http: aiohttp.ClientSession, method: str, url: str, body: Mapping[str, Any] | None) -> Any:
    """The value of a classic command. Raises BrowserError."""
    async with http.request(method, url, json=body) as reply:
        said = (await reply.json(content_type=None)).get("value")
        if reply.status >= 400:
            raise BrowserError(str(said.get("error")), str(said.get("message", "")).partition("\n")[0])
        return said


def capabilities(
    profile: Path, *, size: tuple[int, int], agent: str, pictures: bool, arguments: tuple[str, ...] = ()
) -> dict[str, Any]:
    """What a browser of this machine is asked to be. Pictures are not loaded unless they are wanted; it says who it is as
    Wadi does."""
    given = [*_ARGUMENTS, f"--user-data-dir={profile}", f"--window-size={size[0]},{size[1]}", f"--user-agent={agent}"]
    given += [] if pictures else ["--blink-settings=imagesEnabled=false"]
    given += ["--no-sandbox"] if os.geteuid() == 0 else []  # its own walls do not stand up for that user
    return {
        "browserName": "chrome",
        "webSocketUrl": True,
        "pageLoadStrategy": "normal",
        "unhandledPromptBehavior": "dismiss and notify",
        "goog:chromeOptions": {"args": [*given, *arguments]},
    }
