"""robots.txt by RFC 9309: groups, the longest matching rule, `*` and `$`, percent-encoding.

Reading and deciding only; fetching and keeping the file is the client's.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from math import isfinite
from urllib.parse import quote, unquote, urlsplit

from wadi.urls import without_secret

SIZE_LIMIT_BYTES = 512_000
"""What of the file is read: at least 500 KiB (RFC 9309 §2.5)."""
_LINE = re.compile(r"\s*([A-Za-z-]+)\s*:\s*(.*?)\s*(?:#.*)?$")
_TOKEN = re.compile(r"[a-zA-Z_-]+")
MOST_DELAY_S = 3600.0
"""The longest pause between requests that a site may ask for so: beyond it a crawl stands still."""


@dataclass(frozen=True, slots=True)
class Rule:
    """One allow or disallow line: its path pattern, as written, and the line's number from 1. `pieces` are what stands between
    its stars, octets evened out; `is_anchored`: it ends with `$`."""

    allow: bool
    path: str
    line: int
    pieces: tuple[str, ...] = ()
    is_anchored: bool = False

    def matches(self, path: str) -> bool:
        """Whether a path, octets evened out, begins as the pattern says: piece after piece, in one pass."""
        first, *rest = self.pieces
        if not path.startswith(first):
            return False
        at = len(first)
        for piece in rest:
            at = path.find(piece, at)
            if at < 0:
                return False
            at += len(piece)
        if not self.is_anchored:
            return True
        return path.endswith(self.pieces[-1]) and (at == len(path) or bool(rest))

    @property
    def weight(self) -> tuple[int, bool]:
        """By what one rule goes before another (§2.2.2): the longer pattern, allow where both are as long."""
        return len(_comparable(self.path)), self.allow


def rule_of(allow: bool, path: str, line: int) -> Rule:
    """A rule with its pattern taken apart once."""
    pattern = _comparable(path)
    is_anchored = pattern.endswith("$")
    pieces = (pattern[:-1] if is_anchored else pattern).replace("$", "%24").split("*")
    return Rule(allow, path, line, tuple(pieces), is_anchored)


@dataclass(slots=True)
class Group:
    """The rules for some agents (in small letters), and the pause in seconds that they are asked for."""

    agents: list[str]
    rules: list[Rule] = field(default_factory=list)
    crawl_delay_s: float | None = None


@dataclass(frozen=True, slots=True)
class Robots:
    """A parsed robots.txt. Without groups everything is allowed."""

    groups: tuple[Group, ...] = ()
    sitemaps: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class RobotsVerdict:
    """What robots.txt says about a URL: allowed or not, and the rule that decided (None where no rule matches)."""

    allowed: bool
    rule: Rule | None = None
    agent: str = "*"
    crawl_delay_s: float | None = None


def read_robots(body: bytes) -> Robots:
    """The file's groups. Lines that cannot be read are passed over, as §2.2 asks."""
    text = body[:SIZE_LIMIT_BYTES].decode("utf-8-sig", "replace")
    groups: list[Group] = []
    sitemaps: list[str] = []
    open_for_agents = False
    for number, line in enumerate(re.split(r"\r\n|\r|\n", text), 1):
        found = _LINE.match(line)
        if not found:
            continue
        name, value = found[1].lower(), found[2]
        if name == "sitemap":
            sitemaps.append(value)
        elif name == "user-agent":
            if not open_for_agents:
                groups.append(Group([]))
            groups[-1].agents.append(_product(value))
            open_for_agents = True
        elif name in ("allow", "disallow", "crawl-delay") and groups:
            open_for_agents = False
            _add_rule(groups[-1], name, value, number)
    return Robots(tuple(groups), tuple(sitemaps))


def _product(value: str) -> str:
    if value.strip() == "*":
        return "*"
    found = _TOKEN.match(value.strip())
    return found[0].lower() if found else ""


def _add_rule(group: Group, name: str, value: str, line: int) -> None:
    if name == "crawl-delay":
        try:
            seconds = float(value)
        except ValueError:
            return
        if isfinite(seconds):
            group.crawl_delay_s = min(max(0.0, seconds), MOST_DELAY_S)
    elif value:  # an empty path matches nothing (§2.2.2)
        group.rules.append(rule_of(name == "allow", value, line))


def verdict_for(robots: Robots, url: str, agent: str) -> RobotsVerdict:
    """What the file says about a URL for the agent's product token (`wadi`).

    All groups that name the agent count together, else those for `*` (§2.2.1). The longest matching path decides, and
    allow where both are as long (§2.2.2). /robots.txt itself is always allowed.
    """
    token = _product(agent)
    named = [group for group in robots.groups if token in group.agents]
    groups = named or [group for group in robots.groups if "*" in group.agents]
    delay = next((group.crawl_delay_s for group in groups if group.crawl_delay_s is not None), None)
    shown = token if named else "*"
    parts = urlsplit(url)
    path = _comparable(parts.path or "/") + (f"?{_comparable(parts.query)}" if parts.query else "")
    path = path.replace("*", "%2A").replace("$", "%24")  # a star of a URL is what a rule writes as %2A (§2.2.3)
    if parts.path == "/robots.txt":
        return RobotsVerdict(True, None, shown, delay)
    matching = [rule for group in groups for rule in group.rules if rule.matches(path)]
    if not matching:
        return RobotsVerdict(True, None, shown, delay)
    best = max(matching, key=lambda rule: rule.weight)
    return RobotsVerdict(best.allow, best, shown, delay)


def origin_of(url: str) -> str:
    """The part of a URL that a robots.txt holds for: scheme, host and port (RFC 9309 §2.3)."""
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc.rpartition('@')[2]}"


def by_status(status: int) -> Robots | None:
    """What a robots.txt that cannot be had means: 4xx allows everything (§2.3.1.3), 5xx nothing (§2.3.1.4); None for others."""
    if 400 <= status < 500:
        return Robots()
    return Robots((Group(["*"], [rule_of(False, "/", 0)]),)) if status >= 500 else None


def refusal(url: str, verdict: RobotsVerdict) -> str:
    """The message for a URL that is not allowed: which line forbids it, or that the file cannot be had."""
    rule = verdict.rule
    said = (
        f'line {rule.line}, "Disallow: {rule.path}"'
        if rule and rule.line
        else "cannot be had (5xx), so nothing is allowed"
    )
    return f"{without_secret(url)} not fetched: robots.txt {said}"


def _comparable(text: str) -> str:
    """Octets evened out for comparing: unreserved ones as they are, all others percent-encoded (§2.2.2); a slash, a star and a
    dollar sign that are encoded stay so."""
    kept = re.sub("%(2F|24|2A)", lambda found: f"%25{found[1].upper()}", text, flags=re.IGNORECASE)
    return quote(unquote(kept, errors="surrogateescape"), safe="/*$?&=;:@!,()'+~%-._", errors="surrogateescape")
