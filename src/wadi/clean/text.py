"""Text as a reader sees it: what has no shape on the screen is dropped, white space is folded."""

from __future__ import annotations

import re
import unicodedata

# Characters that a reader does not see: controls (line ends and tabs count as white space and stay until the folding),
# soft hyphen, zero-width space and joiners of words, byte order mark, marks of writing direction.
# ZWNJ and ZWJ stay: Persian, Indic scripts and emoji mean something by them.
UNSEEN = dict.fromkeys(
    [
        *(c for c in range(0x20) if c not in (0x09, 0x0A, 0x0C, 0x0D)),
        *range(0x7F, 0xA0),
        0xAD, 0x61C, 0x200B, 0x200E, 0x200F, *range(0x202A, 0x202F), 0x2060, *range(0x2066, 0x206A), 0xFEFF,
    ]
)  # fmt: skip
# Looked for first: a translation takes three times as long, and nearly every text is without.
_ANY_UNSEEN = re.compile(f"[{re.escape(''.join(map(chr, UNSEEN)))}]")


def tidied(text: str) -> str:
    """One line: unseen characters gone, every run of white space (no-break ones too) one blank, NFC (UAX #15)."""
    # What can be printed is seen, and of white space there are only blanks in it.
    is_printable = text.isprintable()
    text = normalised(text) if is_printable else shown(text)
    if is_printable and "  " not in text and text[:1] != " " and text[-1:] != " ":
        return text
    return " ".join(text.split())


def tidied_lines(text: str) -> str:
    """Like `tidied`, but the line feeds in `text` stay as separators; empty lines go."""
    text = normalised(text) if text.isprintable() else shown(text)
    if "\n" not in text:
        return " ".join(text.split())
    lines = (" ".join(line.split()) for line in text.split("\n"))
    return "\n".join(line for line in lines if line)


def shown(text: str) -> str:
    """The text without characters that a reader does not see, in NFC; white space stays as it is."""
    if _ANY_UNSEEN.search(text) is not None:
        text = text.translate(UNSEEN)
    return normalised(text)


def normalised(text: str) -> str:
    """The text in NFC (UAX #15)."""
    return text if text.isascii() or unicodedata.is_normalized("NFC", text) else unicodedata.normalize("NFC", text)


def latin_digits(text: str) -> str:
    """Decimal digits of any script (Arabic-Indic, Devanagari, full-width …) as 0 to 9, without marks that have no shape."""
    if text.isascii():
        return text
    shown = text.translate(UNSEEN)
    return "".join(str(unicodedata.decimal(c)) if c.isdecimal() else c for c in shown)
