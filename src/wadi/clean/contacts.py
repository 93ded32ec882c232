"""Addresses of people and places on the earth: mail, telephone numbers, points."""

from __future__ import annotations

import re
from collections.abc import Callable

from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.text import latin_digits

_AT = re.compile(r"\s*(?:@|\(at\)|\[at\]|\{at\}|\s+at\s+)\s*", re.IGNORECASE)
_DOT = re.compile(r"\s*(?:\(dot\)|\[dot\]|\{dot\}|\s+dot\s+)\s*", re.IGNORECASE)
# The form of RFC 5321 §4.1.2 without quotes and address literals, with letters of all scripts (RFC 6531).
_MAIL = re.compile(r"[^\s@()<>,;:\"\[\]\\]{1,64}@(?:[^\W_](?:[\w-]{0,61}[^\W_])?\.)+[^\W\d_](?:[\w-]{0,61}[^\W_])?")
_LATITUDE, _LONGITUDE = 90.0, 180.0
_ANGLE = re.compile(
    r"(?P<before>[NSEWO])?\s*(?P<sign>[+\-\u2212])?\s*(?P<degrees>\d{1,3}(?:[.,]\d+)?)\s*(?:°|º|˚|\bdeg\b)?\s*"
    r"(?:(?P<minutes>\d{1,2}(?:[.,]\d+)?)\s*(?:['’′]|\bmin\b)\s*)?"
    r"(?:(?P<seconds>\d{1,2}(?:[.,]\d+)?)\s*(?:[\"”″]|''|′′)\s*)?(?P<after>[NSEWO](?![a-z]))?",
)


def read_email(text: str) -> str:
    """A mail address, its domain in small letters; `mailto:` and names around it go, `(at)` and `(dot)` are read."""
    plain = text.strip().removeprefix("mailto:").partition("?")[0]
    if "@" not in plain:
        plain = _DOT.sub(".", _AT.sub("@", plain, count=1))
    found = _MAIL.findall(plain)
    if len(found) != 1:
        raise NotReadable(
            "not-an-email", f"{text!r} is {'no mail address' if not found else 'more than one mail address'}"
        )
    name, _, domain = found[0].rpartition("@")
    return f"{name}@{domain.lower()}"


def phone_reader(region: str | None = None) -> Callable[[str], str]:
    """A function from text to a telephone number: with `region` (ISO 3166-1) as ITU-T E.164, else its digits and a leading +."""
    if region is None:
        return _digits
    import phonenumbers

    if region.upper() not in phonenumbers.SUPPORTED_REGIONS:
        raise BadSetting(
            "wrong-value", f'region "{region}" is no country code', 'two letters of ISO 3166-1, such as "GB"'
        )

    def read(text: str) -> str:
        plain = latin_digits(text).strip().removeprefix("tel:")
        try:
            number = phonenumbers.parse(plain, region.upper())
        except phonenumbers.NumberParseException as error:
            raise NotReadable("not-a-phone", f"{text!r} is no telephone number: {error}") from error
        if not phonenumbers.is_possible_number(number):
            raise NotReadable(
                "not-a-phone", f"{text!r} has too few or too many digits for a number in {region.upper()}"
            )
        return str(phonenumbers.format_number(number, phonenumbers.PhoneNumberFormat.E164))

    return read


def _digits(text: str) -> str:
    plain = latin_digits(text).strip().removeprefix("tel:")
    digits = re.sub(r"\D", "", plain.replace("(0)", "") if plain.startswith("+") else plain)
    if not 3 <= len(digits) <= 18:
        raise NotReadable("not-a-phone", f"{text!r} is no telephone number")
    return ("+" if plain.startswith(("+", "00")) else "") + (digits[2:] if plain.startswith("00") else digits)


def point_reader(order: str | None = None) -> Callable[[str], list[float]]:
    """A function from text to longitude and latitude in degrees (WGS 84 is taken as given).

    Decimal, or degrees, minutes and seconds; letters say which is which, else `order` ("lat lon", the usual, or "lon lat").
    """
    if order not in (None, "lat lon", "lon lat"):
        raise BadSetting("bad-format", f'format "{order}" is none of a point', '"lat lon" or "lon lat"')

    def read(text: str) -> list[float]:
        plain = (
            latin_digits(text).strip().removeprefix("geo:").partition(";")[0] if "geo:" in text else latin_digits(text)
        )
        plain = re.sub(r"^POINT\s*\(([^)]*)\)$", r"\1", plain.strip(), flags=re.IGNORECASE)
        if plain[:1].upper() in "NSEWO":  # the letters stand before their angles
            plain = re.sub(r"(?<=.)\s*([NSEWO])", r" ; \1", plain)
        angles = list(_ANGLE.finditer(_split_by_commas(plain)))
        if len(angles) != 2:
            raise NotReadable("not-a-point", f"{text!r} is no point: two angles are wanted, {len(angles)} are there")
        values = [(_degrees(angle, text), (angle["before"] or angle["after"] or "").upper()) for angle in angles]
        by_letter = {("lat" if letter in "NS" else "lon"): value for value, letter in values if letter}
        if len(by_letter) == 2:
            lat, lon = by_letter["lat"], by_letter["lon"]
        else:
            first, second = values[0][0], values[1][0]
            is_lon_first = order == "lon lat" or (order is None and text.upper().lstrip().startswith("POINT"))
            lat, lon = (second, first) if is_lon_first else (first, second)
        if abs(lat) > _LATITUDE or abs(lon) > _LONGITUDE:
            raise NotReadable("not-a-point", f"{text!r}: latitude {lat:g}, longitude {lon:g} is no place on the earth")
        return [round(lon, 8), round(lat, 8)]

    return read


def _split_by_commas(text: str) -> str:
    """`54,1 2,3` keeps its decimal commas, `54.1,-2.3` is two numbers."""
    return re.sub(r"[,;]\s*", " ; ", text) if "." in text or text.count(",") == 1 else text


def _degrees(found: re.Match[str], text: str) -> float:
    parts = [float((found[name] or "0").replace(",", ".")) for name in ("degrees", "minutes", "seconds")]
    if parts[1] >= 60 or parts[2] >= 60:
        raise NotReadable("not-a-point", f"{text!r} has more than 59 minutes or seconds")
    letter = (found["before"] or found["after"] or "").upper()
    sign = -1 if letter in ("S", "W") or found["sign"] in ("-", "\u2212") else 1
    return sign * (parts[0] + parts[1] / 60 + parts[2] / 3600)
