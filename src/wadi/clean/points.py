"""Points on the earth from text: longitude and latitude in degrees (WGS 84 is taken as given).

Read are decimal degrees, and degrees with minutes and seconds; which is which say letters (N, S, E, W), words (`South`,
`Longitude: …`), or the order (latitude first, unless `format = "lon lat"` or it is WKT). Refused are signs with letters, two
angles of one kind, minutes beyond 59, `O` without a locale (Ost is East, Ouest is West), and what is no place on the earth.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Literal

from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.locales import locale_of
from wadi.clean.text import latin_digits

_LATITUDE, _LONGITUDE = 90.0, 180.0
_KINDS = {"latitude": "lat", "lat": "lat", "breite": "lat", "breitengrad": "lat", "latitud": "lat", "latitudine": "lat",
          "longitude": "lon", "long": "lon", "lon": "lon", "lng": "lon", "länge": "lon", "längengrad": "lon", "longitud": "lon",
          "longitudine": "lon", "широта": "lat", "долгота": "lon", "szerokość": "lat", "długość": "lon"}  # fmt: skip
_SIDES = {"n": "N", "north": "N", "nord": "N", "norte": "N", "noord": "N", "norr": "N", "с": "N", "с.ш": "N",
          "s": "S", "south": "S", "süd": "S", "sud": "S", "sur": "S", "sul": "S", "zuid": "S", "syd": "S", "ю": "S", "ю.ш": "S",
          "e": "E", "east": "E", "ost": "E", "est": "E", "este": "E", "leste": "E", "oost": "E", "öst": "E", "øst": "E", "в": "E",
          "в.д": "E", "w": "W", "west": "W", "ouest": "W", "oeste": "W", "ovest": "W", "väst": "W", "vest": "W", "з": "W",
          "з.д": "W", "o": "O"}  # fmt: skip
_KIND_OF_SIDE = {"N": "lat", "S": "lat", "E": "lon", "W": "lon"}
_O_IS = {"de": "E", "nl": "E", "fr": "W", "es": "W", "it": "W", "pt": "W", "ca": "W"}
_NUMBER = r"\d{1,3}(?:[.,]\d+)?"
_TOKEN = re.compile(
    rf"(?P<sign>[+\-\u2212])?(?P<number>{_NUMBER})|(?P<mark>°|º|˚|['’′]{{1,2}}|[\"”″]|[dm](?=\s|\d)|s(?=[\s,;]))"
    r"|(?P<word>[^\W\d_](?:[^\W\d_]|\.(?=[^\W\d_]))*)\.?|(?P<between>[,;&/])|(?P<other>\S)"
)


class _Angle:
    """An angle as it is read: its degrees, minutes and seconds, its sign, and the words that belong to it."""

    def __init__(self) -> None:
        self.parts: list[float] = []
        self.sign = ""
        self.side = ""
        self.kind = ""

    def degrees(self, text: str) -> float:
        degrees, minutes, seconds = (*self.parts, 0.0, 0.0)[:3]
        if minutes >= 60 or seconds >= 60:
            raise NotReadable("not-a-point", f"{text[:80]!r} has more than 59 minutes or seconds")
        if self.sign and self.side:
            raise NotReadable("not-a-point", f"{text[:80]!r} has a sign and a letter at one angle")
        if self.kind and self.side and self.kind != _KIND_OF_SIDE[self.side]:
            raise NotReadable("not-a-point", f"{text[:80]!r} has a letter of the one angle at the other")
        sign = -1 if self.side in ("S", "W") or self.sign in ("-", "\u2212") else 1
        return sign * (degrees + minutes / 60 + seconds / 3600)


def point_reader(order: str | None = None, locale: str | None = None) -> Callable[[str], list[float]]:
    """A function from text to longitude and latitude. `order` is "lat lon", the usual, or "lon lat"; a locale tells `O`."""
    if order not in (None, "lat lon", "lon lat"):
        raise BadSetting("bad-format", f'format "{order}" is none of a point', '"lat lon" or "lon lat"')
    meaning_of_o = _O_IS.get(locale_of(locale).language, "") if locale else ""

    def read(text: str) -> list[float]:
        plain = latin_digits(text).strip()
        if plain.casefold().startswith("geo:"):
            plain = plain[4:].partition(";")[0].partition("?")[0]
        is_wkt = re.match(r"POINT\s*\(", plain, re.IGNORECASE) is not None
        plain = re.sub(r"^(?:POINT\s*)?[(\[]([^()\[\]]*)[)\]]$", r"\1", plain, flags=re.IGNORECASE)
        first, second = _angles(_split_by_commas(plain), text, meaning_of_o)
        values = first.degrees(text), second.degrees(text)
        kinds = [angle.kind or _KIND_OF_SIDE.get(angle.side, "") for angle in (first, second)]
        if kinds[0] and kinds[0] == kinds[1]:
            raise NotReadable("not-a-point", f"{text[:80]!r} has two angles of one kind")
        if (
            any(kinds)
            and not all(kinds)
            and not all(angle.side or angle.kind or angle.sign for angle in (first, second))
        ):
            raise NotReadable("not-a-point", f"{text[:80]!r} says of one angle alone which it is")
        is_lon_first = kinds[0] == "lon" or kinds[1] == "lat"
        if not any(kinds):
            is_lon_first = order == "lon lat" or (order is None and is_wkt)
        lat, lon = values[::-1] if is_lon_first else values
        if abs(lat) > _LATITUDE or abs(lon) > _LONGITUDE:
            raise NotReadable(
                "not-a-point", f"{text[:80]!r}: latitude {lat:g}, longitude {lon:g} is no place on the earth"
            )
        return [round(lon, 8), round(lat, 8)]

    return read


def _split_by_commas(text: str) -> str:
    """`54,1 2,3` keeps its decimal commas, `54.1,-2.3` is two numbers."""
    if "." in re.sub(r"[^\W\d_]\.", "", text) or text.count(",") == 1 or re.search(r",\s", text) is None:
        return re.sub(r"[,;]\s*", " ; ", text) if "." in text or text.count(",") == 1 else text
    return re.sub(r",\s+", " ; ", text)


def _angles(plain: str, text: str, meaning_of_o: str) -> tuple[_Angle, _Angle]:
    """The two angles of a text. A word before the first number belongs to what follows it, and so do all others of its kind then:
    labels (`Latitude 33.8 S`), or letters (`S 33.8`)."""
    tokens = list(_TOKEN.finditer(plain))
    first = next((token for token in tokens if token["number"] or token["word"]), None)
    first_word = _plain_word(first) if first is not None and first["word"] is not None else ""
    lead: _Lead = "label" if first_word in _KINDS else "letter" if first_word else ""
    angles = [_Angle()]
    has_degrees = any(token["mark"] for token in tokens)
    # Without marks `54 06 00 N` is three parts of one angle where letters end the angles.
    has_letters = any(token["word"] for token in tokens)
    grouped = has_letters and not has_degrees and sum(token["number"] is not None for token in tokens) in (4, 6)
    for token in tokens:
        angle = angles[-1]
        if token["number"] is not None:
            is_new = bool(angle.parts) and (
                token["sign"] is not None or (not lead and (angle.side != "" or angle.kind != ""))
                or not _goes_on(plain, token, grouped=grouped, parts=len(angle.parts))
            )  # fmt: skip
            if is_new:
                angles.append(angle := _Angle())
            angle.parts.append(float(token["number"].replace(",", ".")))
            angle.sign = angle.sign or token["sign"] or ""
        elif token["word"] is not None:
            _take_word(angles, _plain_word(token), text, meaning_of_o, lead)
        elif token["other"] is not None and token["other"] not in "=:()":
            raise NotReadable("not-a-point", f"{text[:80]!r} is no point: what is {token['other']!r}?")
        elif token["between"] is not None and angle.parts:
            angles.append(_Angle())
    found = [angle for angle in angles if angle.parts]
    if any(angle.side or angle.kind for angle in angles if not angle.parts):
        raise NotReadable("not-a-point", f"{text[:80]!r} is no point: a letter or a label has no number")
    if len(found) != 2 or any(len(angle.parts) > 3 for angle in found):
        raise NotReadable("not-a-point", f"{text[:80]!r} is no point: two angles are wanted, {len(found)} are there")
    return found[0], found[1]


def _goes_on(plain: str, token: re.Match[str], *, grouped: bool, parts: int) -> bool:
    """Whether a number is minutes or seconds of the angle before it: a mark stands between them, or letters end the angles."""
    before = plain[: token.start()].rstrip()
    return before[-1:] in "°º˚'’′dm" or (grouped and parts < 3)


_Lead = Literal["label", "letter", ""]


def _plain_word(token: re.Match[str]) -> str:
    return token["word"].casefold().rstrip(".")


def _take_word(angles: list[_Angle], word: str, text: str, meaning_of_o: str, lead: _Lead) -> None:
    angle = angles[-1]
    if angle.parts and lead == ("label" if word in _KINDS else "letter"):
        angles.append(angle := _Angle())
    if word in _KINDS:
        angle.kind = _KINDS[word]
        return
    side = _SIDES.get(word)
    if side == "O":
        if not meaning_of_o:
            raise NotReadable("not-a-point", f"{text[:80]!r}: O is East or West", 'locale = "de" or "fr" says which')
        side = meaning_of_o
    if side is None:
        raise NotReadable("not-a-point", f"{text[:80]!r} is no point: what is {word!r}?")
    if angle.side:
        raise NotReadable("not-a-point", f"{text[:80]!r} has two letters at one angle")
    if not angle.parts and not lead and len(angles) > 1:
        angles[-2].side = angles[-2].side or side
        return
    angle.side = side
