"""What may be typed to find files: words, and fields with values. Read into terms; nothing is evaluated here.

A query is a row of terms, all of which must hold:

* ``mussel``: the word stands in the name, the folder, the camera, the date taken or what is wrong,
* ``camera:lurga``: the field holds the text; quotes keep words together: ``camera:"lurga m2"``,
* ``score<50``, ``size>=2MB``, ``taken>2026-05``: the field compared with a value,
* ``score:20..40``: from one value to another, both included,
* ``-format:png``: a minus turns any term around.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

TEXT_FIELDS = ("name", "folder", "kind", "format", "verdict", "damage", "cause", "camera", "copies")
NUMBER_FIELDS = ("score", "attainable", "size", "megapixels", "taken")
_TERM = re.compile(r'(-?)(?:([a-z]+)(:|<=|>=|<|>|=))?("[^"]*"?|\S+)', re.IGNORECASE)
_NUMBER = re.compile(r"(\d+(?:\.\d+)?)\s*([kmgt]?b?)", re.IGNORECASE)
_UNITS = {"": 1.0, "b": 1.0, "k": 1e3, "kb": 1e3, "m": 1e6, "mb": 1e6, "g": 1e9, "gb": 1e9, "t": 1e12, "tb": 1e12}


@dataclass(frozen=True, slots=True)
class TextTerm:
    """``field`` (empty for anywhere) holds ``text``, which is casefolded; with ``turned`` it must not."""

    field: str
    text: str
    turned: bool = False


@dataclass(frozen=True, slots=True)
class RangeTerm:
    """A number from ``low`` to ``high``; the ``open`` ends are not included. Dates are numbers like 20260514134200."""

    field: str
    low: float
    high: float
    low_open: bool = False
    high_open: bool = False
    turned: bool = False


class QueryError(ValueError):
    """The query cannot be read; the message is a sentence."""


def read_query(text: str) -> tuple[TextTerm | RangeTerm, ...]:
    """The terms of a query. Raises QueryError for a value that is no number where one must stand.

    What looks like a field but is none is taken as a word, so that ``DSC:12`` finds such a name.
    """
    terms: list[TextTerm | RangeTerm] = []
    for match in _TERM.finditer(text):
        minus, field, sign, raw = match.group(1), (match.group(2) or "").lower(), match.group(3) or "", match.group(4)
        value = raw.strip('"')
        turned = bool(minus)
        if field in NUMBER_FIELDS:
            terms.append(read_range(field, value, sign, turned))
        elif field in TEXT_FIELDS and sign in (":", "="):
            if value:
                terms.append(TextTerm(field, value.casefold(), turned))
        else:
            word = match.group(0)[len(minus) :].replace('"', "").casefold()
            if word:
                terms.append(TextTerm("", word, turned))
    return tuple(terms)


def read_range(field: str, value: str, sign: str = ":", turned: bool = False) -> RangeTerm:
    """The range that a comparison of ``field`` with ``value`` stands for. Raises QueryError."""
    low_text, dots, high_text = value.partition("..")
    if dots and sign in (":", "="):
        return RangeTerm(field, _value(field, low_text, False), _value(field, high_text, True), turned=turned)
    least, most = _value(field, value, False), _value(field, value, True)
    if sign == "<":
        return RangeTerm(field, -math.inf, least, high_open=True, turned=turned)
    if sign == "<=":
        return RangeTerm(field, -math.inf, most, turned=turned)
    if sign == ">":
        return RangeTerm(field, most, math.inf, low_open=True, turned=turned)
    if sign == ">=":
        return RangeTerm(field, least, math.inf, turned=turned)
    return RangeTerm(field, least, most, turned=turned)


def _value(field: str, text: str, upper: bool) -> float:
    """A number with its unit, or a date as digits (20260514134200); an open end of a range is empty.

    ``upper`` takes a date that names no day or hour to its last moment.
    """
    if not text:
        return math.inf if upper else -math.inf
    if field == "taken":
        digits = "".join(c for c in text if c.isdecimal())[:14]
        if len(digits) < 4:
            raise QueryError(f"After taken a date such as 2026-05-14 is needed, not {text}.")
        return float(digits.ljust(14, "9" if upper else "0"))
    match = _NUMBER.fullmatch(text)
    if match is None:
        raise QueryError(f"After {field} a number is needed, not {text}.")
    return float(match.group(1)) * _UNITS[match.group(2).lower()]
