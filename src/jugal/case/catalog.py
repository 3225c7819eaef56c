"""All files of a case in columns: filtered, counted by facets and sorted fast enough to follow every keystroke."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from operator import attrgetter, itemgetter

import msgspec
import numpy as np
from numpy.typing import NDArray

from jugal.case.query import QueryError, RangeTerm, TextTerm, read_query
from jugal.case.store import FileRow
from jugal.model.codes import Cause
from jugal.model.result import Kind, Verdict
from jugal.model.sorts import Sort

Mask = NDArray[np.bool_]
Numbers = NDArray[np.int64]


class Facet(StrEnum):
    """What files can be told apart by."""

    KIND = "kind"
    FORMAT = "format"
    VERDICT = "verdict"
    DAMAGE = "damage"
    CAUSE = "cause"
    CAMERA = "camera"
    FOLDER = "folder"
    TAKEN = "taken"
    SIZE = "size"
    PICTURE = "picture"
    COPIES = "copies"


#: The value of files that lack what a facet asks for.
LACKING = ""
_LACKING_WORDS = {
    Facet.DAMAGE: "nothing wrong", Facet.CAUSE: "no known cause", Facet.CAMERA: "no camera named", Facet.TAKEN: "no date inside",
    Facet.PICTURE: "no picture size", Facet.COPIES: "no copies",
}  # fmt: skip
_LACKING_FIELDS = {"taken": _LACKING_WORDS[Facet.TAKEN], "megapixels": _LACKING_WORDS[Facet.PICTURE]}
_MANY = (Facet.DAMAGE, Facet.CAUSE)
_SIZES = (
    (100_000, "under 100 KB"), (1_000_000, "100 KB to 1 MB"), (10_000_000, "1 to 10 MB"), (100_000_000, "10 to 100 MB"),
    (1_000_000_000, "100 MB to 1 GB"),
)  # fmt: skip
_PIXELS = (
    (100_000, "thumbnail, under 0.1 megapixels"), (1_000_000, "0.1 to 1 megapixels"), (8_000_000, "1 to 8 megapixels"),
    (20_000_000, "8 to 20 megapixels"),
)  # fmt: skip
_ORDER: dict[Facet, tuple[str, ...]] = {
    Facet.KIND: tuple(Kind),
    Facet.VERDICT: tuple(Verdict),
    Facet.DAMAGE: tuple(Sort),
    Facet.CAUSE: tuple(Cause),
    Facet.SIZE: (*(words for _, words in _SIZES), "over 1 GB"),
    Facet.PICTURE: (
        "preview of a larger picture",
        *(words for _, words in _PIXELS),
        "over 20 megapixels",
    ),
}


class SortKey(StrEnum):
    """What files can be put in order by."""

    FOUND = "as found"
    NAME = "name"
    FOLDER = "folder"
    SCORE = "score"
    GAIN = "gain by repair"
    VERDICT = "verdict"
    FORMAT = "format"
    SIZE = "size"
    TAKEN = "date taken"
    CAMERA = "camera"
    PIXELS = "picture size"
    LIKENESS = "copies together"


def words_for(facet: Facet, value: str) -> str:
    """A facet's value as it is shown."""
    return value or _LACKING_WORDS.get(facet, "none")


class Filter(msgspec.Struct, frozen=True):
    """What is shown: the query, the chosen values of facets (any of a facet's, all facets) and the range of scores."""

    query: str = ""
    chosen: dict[str, tuple[str, ...]] = {}
    low: float = 0.0
    high: float = 100.0

    @property
    def is_open(self) -> bool:
        return self == Filter()

    @property
    def scores_narrowed(self) -> bool:
        return (self.low, self.high) != (0.0, 100.0)

    def values(self, facet: Facet) -> tuple[str, ...]:
        """The chosen values of a facet, empty where it does not matter."""
        return self.chosen.get(facet.value, ())

    def toggled(self, facet: Facet, value: str) -> Filter:
        """The filter with one value of a facet chosen where it was not, and the other way round."""
        had = self.values(facet)
        now = tuple(v for v in had if v != value) if value in had else (*had, value)
        chosen = {k: v for k, v in self.chosen.items() if k != facet.value}
        if now:
            chosen[facet.value] = now
        return msgspec.structs.replace(self, chosen=chosen)

    def without(self, facet: Facet) -> Filter:
        """The filter in which a facet does not matter."""
        return msgspec.structs.replace(self, chosen={k: v for k, v in self.chosen.items() if k != facet.value})


@dataclass(frozen=True, slots=True)
class Shown:
    """What a filter lets through. ``lacking`` counts the files kept apart for want of what the filter asks for."""

    numbers: Numbers
    lacking: int = 0
    lacking_words: str = ""
    problem: str = ""


@dataclass(slots=True)
class _Words:
    """The distinct words of one column, by code."""

    words: list[str] = field(default_factory=list)
    codes: dict[str, int] = field(default_factory=dict)

    def of(self, words: list[str]) -> list[int]:
        """The code of each word; new words get the next ones."""
        codes = self.codes
        for word in dict.fromkeys(words):
            if word not in codes:
                codes[word] = len(self.words)
                self.words.append(word)
        return [codes[word] for word in words]


#: Names are put in order by their first 40 bytes, as five whole numbers.
_NAME_KEYS = 5
_RECORD = np.dtype(
    [
        ("score", "f8"), ("attainable", "f8"), ("bytes", "i8"), ("pixels", "i8"), ("likeness", "i8"), ("moment", "i8"), ("name", ">u8", (_NAME_KEYS,)),
        *((facet.value, "i4") for facet in Facet),
    ]
)  # fmt: skip
_TEXT_FACETS = {
    "kind": Facet.KIND, "format": Facet.FORMAT, "verdict": Facet.VERDICT, "damage": Facet.DAMAGE, "cause": Facet.CAUSE,
    "camera": Facet.CAMERA, "folder": Facet.FOLDER, "copies": Facet.COPIES,
}  # fmt: skip


def _class_of(value: int, classes: Sequence[tuple[int, str]], above: str) -> str:
    at = bisect_right(classes, value, key=itemgetter(0))
    return classes[at][1] if at < len(classes) else above


def _texts(row: FileRow) -> tuple[str, str]:
    """The name, and all that a word is looked for in; both casefolded."""
    text = f"{row.path}\n{row.camera}\n{row.taken}\n{row.headline}".casefold()
    return text[: text.index("\n")].rpartition("/")[2], text


def _picture(row: FileRow) -> str:
    if row.preview:
        return "preview of a larger picture"
    return _class_of(row.pixels, _PIXELS, "over 20 megapixels") if row.pixels and row.kind is Kind.PHOTO else LACKING


_VALUE: dict[Facet, Callable[[FileRow], str]] = {
    Facet.KIND: attrgetter("kind"),
    Facet.FORMAT: attrgetter("format"),
    Facet.VERDICT: attrgetter("verdict"),
    Facet.DAMAGE: attrgetter("sorts"),
    Facet.CAUSE: attrgetter("causes"),
    Facet.CAMERA: attrgetter("camera"),
    Facet.FOLDER: lambda r: r.path.rpartition("/")[0],
    Facet.TAKEN: lambda r: r.taken[:7],
    Facet.SIZE: lambda r: _class_of(r.size, _SIZES, "over 1 GB"),
    Facet.PICTURE: _picture,
    Facet.COPIES: attrgetter("copies"),
}


_NO_SIGNS = str.maketrans("", "", "-:/. TZ")


def _moment(text: str) -> int:
    """A date as a whole number that sorts: 20260514134200; 0 where there is none. What is not given counts as zeros."""
    digits = text.translate(_NO_SIGNS)[:14]
    return int(digits.ljust(14, "0")) if digits.isdecimal() else 0


class Catalog:
    """The rows of a case, growing. Numbers below are places in the order of ``rows``."""

    def __init__(self) -> None:
        self.rows: list[FileRow] = []
        self._place: dict[int, int] = {}
        self._words: dict[Facet, _Words] = {facet: _Words() for facet in Facet}
        self._records = np.zeros(1024, _RECORD)
        self._names: list[str] = []
        self._texts: list[str] = []

    def __len__(self) -> int:
        return len(self.rows)

    def place(self, number: int) -> int | None:
        """Where the file with that number of the case stands, None where it does not."""
        return self._place.get(number)

    def take_in(self, rows: Iterable[FileRow]) -> None:
        """Adds rows, or puts them in place of what was known of the same files."""
        begun = len(self.rows)
        fresh: list[FileRow] = []
        for row in rows:
            at = self._place.get(row.id)
            if at is None:
                self._place[row.id] = begun + len(fresh)
                fresh.append(row)
            elif at >= begun:
                fresh[at - begun] = row
            else:
                self.rows[at] = row
                self._names[at], self._texts[at] = _texts(row)
                self._records[at : at + 1] = self._recorded([row], [self._names[at]])
        self.rows += fresh
        pairs = [_texts(row) for row in fresh]
        self._names += [name for name, _ in pairs]
        self._texts += [text for _, text in pairs]
        while self._records.size < len(self.rows):
            self._records = np.concatenate([self._records, np.zeros(self._records.size, _RECORD)])
        self._records[begun : len(self.rows)] = self._recorded(fresh, self._names[begun:])

    def _recorded(self, rows: list[FileRow], names: list[str]) -> NDArray:
        out = np.zeros(len(rows), _RECORD)
        out["score"] = [np.nan if r.score is None else r.score for r in rows]
        out["attainable"] = [np.nan if r.attainable is None else r.attainable for r in rows]
        out["bytes"] = [r.size for r in rows]
        out["pixels"] = [r.pixels for r in rows]
        out["likeness"] = [r.likeness for r in rows]
        out["moment"] = [_moment(r.taken) if r.taken else 0 for r in rows]
        keys = np.array([n.encode("utf-8", "surrogateescape") for n in names], f"S{8 * _NAME_KEYS}")
        out["name"] = keys.view(">u8").reshape(len(rows), _NAME_KEYS)
        for facet, value in _VALUE.items():
            out[facet.value] = self._words[facet].of([value(r) for r in rows])
        return out

    def column(self, name: str) -> NDArray:
        """A column of numbers (score, attainable, bytes, pixels, likeness) or of a facet's codes; a view."""
        return self._records[name][: len(self.rows)]

    # Filtering

    def select(self, wanted: Filter) -> Shown:
        """The files that a filter lets through, in the order they were found."""
        parts, lacking, words, problem = self._parts(wanted)
        keep = np.ones(len(self.rows), bool)
        for part in parts.values():
            keep &= part
        return Shown(np.flatnonzero(keep), lacking, words, problem)

    def counts(self, wanted: Filter, facets: Iterable[Facet] = Facet) -> dict[Facet, dict[str, int]]:
        """For each facet how many files each of its values would show, all other parts of the filter holding."""
        parts, _, _, _ = self._parts(wanted)
        out = {}
        for facet in facets:
            keep = np.ones(len(self.rows), bool)
            for key, part in parts.items():
                if key != facet.value:
                    keep &= part
            out[facet] = self._count(facet, keep)
        return out

    def weights(self, wanted: Filter, of_bytes: bool = False, bins: int = 51) -> dict[Verdict, NDArray[np.float64]]:
        """Per verdict the files (or their bytes) in each class of score, all of the filter but its scores holding."""
        parts, _, _, _ = self._parts(wanted)
        score = self.column("score")
        keep = ~np.isnan(score)
        for key, part in parts.items():
            if key != "scores":
                keep &= part
        codes, verdicts = self.column(Facet.VERDICT), self._words[Facet.VERDICT]
        out = {}
        for verdict in (Verdict.INTACT, Verdict.REPAIRABLE, Verdict.DAMAGED, Verdict.UNRECOVERABLE):
            mine = keep & (codes == verdicts.codes.get(verdict.value, -1))
            classes = (score[mine] / 100 * (bins - 1)).astype(np.int64).clip(0, bins - 1)
            weight = self.column("bytes")[mine].astype(np.float64) if of_bytes else None
            out[verdict] = np.bincount(classes, weight, minlength=bins).astype(np.float64)
        return out

    def _parts(self, wanted: Filter) -> tuple[dict[str, Mask], int, str, str]:
        """One mask for each part of the filter, the files lacking what it asks for, and what is wrong with it."""
        parts: dict[str, Mask] = {}
        #: By part: the files that lack what it asks for, with the words for it.
        lacks: dict[str, tuple[Mask, str]] = {}
        problem = ""
        for facet in Facet:
            values = wanted.values(facet)
            if values:
                parts[facet.value] = self._holding(facet, values)
                if LACKING not in values and facet in _LACKING_WORDS and facet not in _MANY:
                    lack = self.column(facet) == self._words[facet].codes.get(LACKING, -1)
                    lacks[facet.value] = (lack, _LACKING_WORDS[facet])
        if wanted.scores_narrowed:
            score = self.column("score")
            parts["scores"] = (score >= wanted.low) & (score <= wanted.high)
            lacks["scores"] = (np.isnan(score), "no score")
        try:
            terms = read_query(wanted.query)
        except QueryError as error:
            terms, problem = (), str(error)
        for at, term in enumerate(terms):
            held, lack = self._term(term)
            parts[f"query {at}"] = ~(held | lack) if term.turned else held
            if isinstance(term, RangeTerm):
                lacks[f"query {at}"] = (lack, _LACKING_FIELDS.get(term.field, "no score"))
        # Kept apart is what every part lets through or cannot judge, and one at least cannot judge.
        open_to = np.ones(len(self.rows), bool)
        unjudged = np.zeros(len(self.rows), bool)
        for key, part in parts.items():
            lack, _ = lacks.get(key, (None, ""))
            open_to &= part if lack is None else part | lack
            if lack is not None:
                unjudged |= lack
        apart = open_to & unjudged
        words = dict.fromkeys(words for lack, words in lacks.values() if (lack & apart).any())
        return parts, int(apart.sum()), " or ".join(words), problem

    def _holding(self, facet: Facet, values: Sequence[str]) -> Mask:
        words = self._words[facet].words
        if facet in _MANY:
            wanted = set(values)
            hit = [bool(wanted & set(w.split("|"))) if w else LACKING in wanted for w in words]
        else:
            hit = [w in values for w in words]
        return np.array(hit, bool)[self.column(facet)] if words else np.zeros(len(self.rows), bool)

    def _count(self, facet: Facet, keep: Mask) -> dict[str, int]:
        words = self._words[facet].words
        found = np.bincount(self.column(facet)[keep], minlength=len(words))
        if facet in _MANY:
            sums: dict[str, int] = {}
            for word, count in zip(words, found, strict=True):
                for value in word.split("|"):
                    sums[value] = sums.get(value, 0) + int(count)
        else:
            sums = {word: int(count) for word, count in zip(words, found, strict=True)}
        order = {value: i for i, value in enumerate(_ORDER.get(facet, ()))}
        ranked = sorted(sums, key=lambda v: (v == LACKING, order.get(v, 99), 0 if facet in _ORDER else -sums[v], v))
        return {value: sums[value] for value in ranked if sums[value]}

    def _term(self, term: TextTerm | RangeTerm) -> tuple[Mask, Mask]:
        """Where a term of a query holds, and which files lack what it asks for."""
        none = np.zeros(len(self.rows), bool)
        if isinstance(term, RangeTerm):
            return self._range(term)
        facet = _TEXT_FACETS.get(term.field)
        if facet is not None:
            words = self._words[facet].words
            hit = np.array([term.text in w.casefold() for w in words], bool)
            return (hit[self.column(facet)] if words else none), none
        texts = self._names if term.field == "name" else self._texts
        text = term.text
        return np.array([text in t for t in texts], bool), none

    def _range(self, term: RangeTerm) -> tuple[Mask, Mask]:
        column = {"megapixels": "pixels", "size": "bytes", "taken": "moment"}.get(term.field, term.field)
        values = self.column(column) / (1e6 if term.field == "megapixels" else 1)
        lack = values == 0 if term.field in ("megapixels", "taken") else np.isnan(values)
        low = values > term.low if term.low_open else values >= term.low
        high = values < term.high if term.high_open else values <= term.high
        return low & high & ~lack, lack

    # Order

    def order(self, numbers: Numbers, keys: Sequence[tuple[SortKey, bool]]) -> Numbers:
        """``numbers`` sorted by ``keys``, the first first; with True a key runs downwards. Equal files stay as found.

        Files that lack the key come last either way.
        """
        columns = []
        for key, down in reversed(keys):
            values, lack = self._sortable(key, numbers)
            columns += [-values if down else values, lack]
        return numbers[np.lexsort(columns)] if columns else numbers

    def _sortable(self, key: SortKey, numbers: Numbers) -> tuple[NDArray, Mask]:
        none = np.zeros(numbers.size, bool)
        if key is SortKey.FOUND:
            return numbers, none
        if key is SortKey.NAME:
            return self._name_ranks()[numbers], none
        if key in (SortKey.SCORE, SortKey.GAIN):
            values = self.column("score")[numbers]
            if key is SortKey.GAIN:
                values = self.column("attainable")[numbers] - values
            lack = np.isnan(values)
            return np.where(lack, 0.0, values), lack
        column = {
            SortKey.SIZE: "bytes",
            SortKey.PIXELS: "pixels",
            SortKey.LIKENESS: "likeness",
            SortKey.TAKEN: "moment",
        }
        if key in column:
            values = self.column(column[key])[numbers]
            return values, none if key is SortKey.SIZE else values == 0
        facet = {SortKey.VERDICT: Facet.VERDICT, SortKey.FORMAT: Facet.FORMAT, SortKey.CAMERA: Facet.CAMERA}.get(
            key, Facet.FOLDER
        )
        words = self._words[facet].words
        order = {value: i for i, value in enumerate(_ORDER.get(facet, ()))}
        rank = np.empty(len(words), np.int64)
        rank[sorted(range(len(words)), key=lambda i: (order.get(words[i], 99), words[i].casefold()))] = np.arange(
            len(words)
        )
        codes = self.column(facet)[numbers]
        lack = codes == self._words[facet].codes.get(LACKING, -1)
        return rank[codes], lack

    def _name_ranks(self) -> Numbers:
        """The place of each file among all by name."""
        keys = self.column("name").astype(np.uint64)
        ranks = np.empty(len(self.rows), np.int64)
        ranks[np.lexsort(keys.T[::-1])] = np.arange(len(self.rows))
        return ranks


def phrase(facet: Facet, values: Sequence[str]) -> str:
    """A facet's chosen values as a part of a sentence that begins with "Files"."""
    words = " or ".join(words_for(facet, v).rsplit("/", 1)[-1] for v in values)
    return {
        Facet.KIND: f"of kind {words}", Facet.FORMAT: f"in {words}", Facet.VERDICT: f"that are {words}", Facet.DAMAGE: f"with {words}",
        Facet.CAUSE: f"because of {words}", Facet.CAMERA: f"taken by {words}", Facet.FOLDER: f"in folder {words}",
        Facet.TAKEN: f"taken in {words}", Facet.SIZE: f"of {words}", Facet.PICTURE: f"with {words}", Facet.COPIES: f"being {words}",
    }[facet]  # fmt: skip


def parse_filter(text: str) -> Filter:
    """A filter from its stored form; an unreadable one is open."""
    try:
        return msgspec.json.decode(text, type=Filter)
    except msgspec.DecodeError:
        return Filter()


def filter_text(wanted: Filter) -> str:
    """A filter's stored form."""
    return msgspec.json.encode(wanted).decode()
