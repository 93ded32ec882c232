"""Telephone numbers from text.

Read is one number with a label before it and an extension behind it (as RFC 3966 writes it: `;ext=12`). Refused are several
numbers, opening hours, dates, and what has too few or too many digits. With a region a number is as ITU-T E.164 has it; one that
cannot be called from abroad (`999`, `0800 123`) and one without a region are the digits as they are called.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING

from wadi.clean.errors import BadSetting, NotReadable
from wadi.clean.text import latin_digits

if TYPE_CHECKING:
    from phonenumbers import PhoneNumber

_EXTENSION = re.compile(
    r"[,;]?\s*(?:;ext=|(?:ext(?:ension|n)?|x|int|durchwahl|dw|poste|доб|anexo|ramal|toestel)(?![^\W\d_])\.?)\s*:?\s*(?P<number>\d{1,7})$",
    re.IGNORECASE,
)
_LABEL = re.compile(r"^[^\d+(]*(?=[\d+(])")
_BODY = re.compile(r"\+?[\d\s().\-\u2010\u2011–/\u00a0]+")
_WORDED = re.compile(r"\+?[\d\s().\-]+[A-Z]{3,}[A-Z\d\-]*")
_DATE = re.compile(r"\d{4}-\d{1,2}-\d{1,2}|\d{1,2}[./]\d{1,2}[./]\d{2,4}")
_RANGE = re.compile(r"\d{4}\s?[-–]\s?[1-9]$")
"""Several numbers, or a direct line: 12345-3."""
_SEVERAL = re.compile(r"/\s?\d{1,2}$|\d{3}\s/\s?\d{3,}$")
_LEAST_DIGITS, _LEAST_WRITTEN, _MOST_DIGITS = 3, 6, 15
_LONG = 6


def phone_reader(region: str | None = None) -> Callable[[str], str]:
    """A function from text to a telephone number. Raises BadSetting for a region that is none of ISO 3166-1; the function
    raises NotReadable."""
    if region is None:
        return lambda text: "".join(_parts(text))
    import phonenumbers

    place = region.upper()
    if place not in phonenumbers.SUPPORTED_REGIONS:
        raise BadSetting(
            "wrong-value", f'region "{region}" is no country code', 'two letters of ISO 3166-1, such as "GB"'
        )

    def read(text: str) -> str:
        digits, extension = _parts(text, may_be_worded=True)
        try:
            number = phonenumbers.parse(digits, place)
        except phonenumbers.NumberParseException as error:
            raise NotReadable("not-a-phone", f"{text[:60]!r} is no telephone number: {error}") from error
        plain = "".join(re.findall(r"\d", digits))
        has_odd_zero = number.italian_leading_zero and not phonenumbers.is_valid_number(number)
        reason = phonenumbers.is_possible_number_with_reason(number)
        if (
            reason == phonenumbers.ValidationResult.IS_POSSIBLE
            and not has_odd_zero
            and not _is_short(plain, number, place)
        ):
            return str(phonenumbers.format_number(number, phonenumbers.PhoneNumberFormat.E164)) + extension
        if not digits.startswith("+") and (
            _is_short(plain, number, place) or (plain.startswith("0") and _LONG <= len(plain) <= 8)
        ):
            return plain + extension
        raise NotReadable("not-a-phone", f"{text[:60]!r} has too few or too many digits for a number in {place}")

    return read


def _is_short(plain: str, number: PhoneNumber, place: str) -> bool:
    from phonenumbers import shortnumberinfo

    return len(plain) <= _LONG and shortnumberinfo.is_valid_short_number_for_region(number, place)


def _parts(text: str, *, may_be_worded: bool = False) -> tuple[str, str]:
    """The number, digits with a `+` where it is written with one, and its extension as `;ext=…`, or nothing."""
    plain = latin_digits(text).strip().removeprefix("tel:")
    extension = ""
    if (found := _EXTENSION.search(plain)) is not None and len(re.findall(r"\d", plain[: found.start()])) >= _LONG:
        plain, extension = plain[: found.start()].rstrip(" ,("), f";ext={found['number']}"
    if (label := _LABEL.match(plain)) is not None:
        if label[0][-2:].isalpha() and len(label[0]) > 1 and plain[label.end()].isdecimal():
            raise NotReadable("not-a-phone", f"{text[:60]!r} is a code: letters stand at its digits")
        plain = plain[label.end() :].strip()
    if may_be_worded and _WORDED.fullmatch(plain):
        return plain, extension
    digits = "".join(re.findall(r"\d", plain.replace("(0)", "") if plain.startswith("+") else plain))
    if not _BODY.fullmatch(plain) or _DATE.fullmatch(plain) or not _LEAST_DIGITS <= len(digits) <= _MOST_DIGITS + 2:
        raise NotReadable(
            "not-a-phone", f"{text[:60]!r} is no telephone number", "find takes a number out of other text"
        )
    is_range = not may_be_worded and _RANGE.search(plain) is not None
    if re.fullmatch(r"\d+\.\d+", plain) or is_range or _SEVERAL.search(plain):
        raise NotReadable("not-a-phone", f"{text[:60]!r} is a number of something else, or several numbers")
    if any(len(re.findall(r"\d", half)) >= _LONG for half in plain.split("/")[1:]) and "/" in plain:
        first, _, _ = plain.partition("/")
        if len(re.findall(r"\d", first)) > _LONG:
            raise NotReadable("not-a-phone", f"{text[:60]!r} names several numbers", "find takes one of them")
    if len(digits) < _LEAST_WRITTEN and not plain.isdecimal():
        raise NotReadable("not-a-phone", f"{text[:60]!r} has too few digits for a telephone number")
    if plain.startswith("00"):
        return f"+{digits[2:]}", extension
    return ("+" if plain.startswith("+") else "") + digits, extension
