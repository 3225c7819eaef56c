"""A picture without header and without donor: sampling, width, height and contrast found from its data.

Only data coded with the typical Huffman tables of Annex K can be read so; most cameras use them. What decodes without
an error to the end has the right sampling; the width is where the rows agree best; the quantisation is a guess from
the contrast that pictures have. The result is an estimate and is scored as one.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jugal.binary.source import Source
from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg import spec
from jugal.formats.jpeg.entropy import neutral_mcu
from jugal.formats.jpeg.gamut import absolute_levels
from jugal.formats.jpeg.parse import Entropy, Structure, read_entropy, walk
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.kernels.stuffing import pack_bits, pack_parts

#: Luma blocks across and down an MCU, the commonest first; None for a picture of one component.
SAMPLINGS: tuple[tuple[int, int] | None, ...] = ((2, 2), (2, 1), (1, 1), (1, 2), None)
#: Percent of the picture that an estimate is worth: its content stands in place, its contrast and tint are guessed.
WORTH = 40.0
_LEAST_BYTES = 4096
_LEAST_MCUS = 200
_WIDEST = 1400
_SETTLING = 24
#: How much better the best width must be than every other that is neither beside it nor a multiple of it.
_CLEAR = 0.96
_COMMONEST = 0.9
_PROBE_INTERVALS = 6
_RATIOS = (4 / 3, 3 / 2, 16 / 9, 1.0, 3 / 4, 2 / 3, 9 / 16)
_USUAL_WIDTHS = (
    320, 480, 600, 640, 720, 750, 768, 800, 900, 960, 1000, 1024, 1080, 1200, 1280, 1366, 1440, 1500, 1536, 1600, 1920, 2000, 2048,
    2250, 2268, 2304, 2448, 2560, 2592, 2736, 2848, 2988, 3000, 3008, 3024, 3072, 3096, 3120, 3168, 3240, 3264, 3456, 3648, 3744,
    3840, 3872, 3888, 4000, 4032, 4128, 4160, 4272, 4288, 4320, 4480, 4608, 4752, 4896, 4912, 4928, 5184, 5312, 5472, 5504, 5616,
    6000, 6016, 6240, 6720, 7360, 8256,
)  # fmt: skip
#: Annex K.1: the typical quantisation tables in the order of the zigzag, luma and chroma.
_K1 = (
    16, 11, 12, 14, 12, 10, 16, 14, 13, 14, 18, 17, 16, 19, 24, 40, 26, 24, 22, 22, 24, 49, 35, 37, 29, 40, 58, 51, 61, 60, 57, 51,
    56, 55, 64, 72, 92, 78, 64, 68, 87, 69, 55, 56, 80, 109, 81, 87, 95, 98, 103, 104, 103, 62, 77, 113, 121, 112, 100, 120, 92, 101, 103, 99,
)  # fmt: skip
_K2 = (
    17, 18, 18, 24, 21, 24, 47, 26, 26, 47, 99, 66, 56, 66, 99, *(99,) * 49,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class Estimate:
    """What the data tell of a picture. ``runs`` hold its MCUs in order, ``lost`` is how many stood before them."""

    sampling: tuple[int, int] | None
    width: int
    height: int
    mcus_x: int
    lost: int
    runs: tuple[Run, ...]
    interval: int
    #: The restart marker before the first of ``runs`` (0 to 7), -1 where there are none.
    first_mark: int
    step: float
    at: int

    @property
    def count(self) -> int:
        return sum(run.count for run in self.runs)

    @property
    def share(self) -> float:
        """Part of the picture that is left, 0..1."""
        return min(1.0, self.count / max(1, self.lost + self.count))


def header(sampling: tuple[int, int] | None, width: int, height: int, step: float = 4.0, interval: int = 0) -> bytes:
    """SOI to SOS of a baseline picture with the typical tables; ``step`` is the quantisation of the luma DC value."""
    scale = step / _K1[0]
    tables = b""
    for ident, base in enumerate((_K1, _K2) if sampling else (_K1,)):
        tables += bytes([ident]) + bytes(min(255, max(1, round(v * scale))) for v in base)
    parts = [spec.MARK_SOI, _segment(0xDB, tables)]
    across, down = sampling or (1, 1)
    luma = bytes([1, across << 4 | down, 0])
    chroma = bytes([2, 0x11, 1, 3, 0x11, 1]) if sampling else b""
    size = height.to_bytes(2, "big") + width.to_bytes(2, "big")
    parts.append(_segment(0xC0, b"\x08" + size + bytes([3 if sampling else 1]) + luma + chroma))
    parts.append(spec.annex_k_segments())
    if interval:
        parts.append(_segment(0xDD, interval.to_bytes(2, "big")))
    scan = bytes([3, 1, 0x00, 2, 0x11, 3, 0x11]) if sampling else bytes([1, 1, 0x00])
    parts.append(_segment(0xDA, scan + b"\x00\x3f\x00"))
    return b"".join(parts)


def _segment(marker: int, body: bytes) -> bytes:
    return bytes([0xFF, marker]) + (len(body) + 2).to_bytes(2, "big") + body


def _model(sampling: tuple[int, int] | None, width: int = 8192, height: int = 8192, step: float = 1.0) -> Structure:
    """A picture of any size to read runs with; the finest quantisation sets no limit to how far levels may go."""
    return walk(Source.from_bytes(header(sampling, width, height, step) + b"\0\0"), 0)


def estimate(subject: Subject, start: int) -> Estimate | None:
    """What the data from byte ``start`` on tell; None where they do not read as a picture with the typical tables."""
    if subject.size - start < _LEAST_BYTES:
        return None
    entropy = read_entropy(subject.source, start)
    if entropy.end - start < _LEAST_BYTES:
        return None
    restarts = np.flatnonzero(entropy.is_restart)
    if restarts.size >= 3:
        return _with_restarts(subject, entropy, restarts, start)
    readings: list[tuple[int, tuple[int, int] | None, RunReader, Run]] = []
    for sampling in SAMPLINGS:
        reader = RunReader(_model(sampling))
        run = reader.read(entropy, 0, 1 << 22)[0]
        if run.count < _LEAST_MCUS or run.failed:
            bit = reader.in_step(subject, start, entropy.end)
            if bit is None:
                continue
            run = reader.follow(entropy, bit, 1 << 22)
        run = _settled(reader, run)
        reach = int(run.bits[-1] - run.bits[0])
        if run.count >= _LEAST_MCUS and reach >= 4 * entropy.length:
            readings.append((reach, sampling, reader, run))
    # Coarse data may read to the end in more than one way; the rows of the right one agree best.
    most = max((reach for reach, *_ in readings), default=0)
    fitting = [
        (clarity, width, sampling, reader, run)
        for reach, sampling, reader, run in readings
        if reach >= 0.9 * most
        for width, clarity in _widths(reader, [run])
    ]
    if not fitting:
        return None
    _, width, sampling, reader, run = min(fitting, key=lambda f: f[0])
    whole = int(run.bits[0]) == 0 and run.ends_with_data
    before = 0 if whole and run.count % width == 0 else _lost_before(reader, run, width, start, entropy)
    return _sized(sampling, width, before, (run,), 0, -1, reader, start)


def _settled(reader: RunReader, run: Run) -> Run:
    """Without first MCUs after which the level jumps by more than the whole rest spans: they were read out of step.

    Read anew from where it begins then, so that its levels count from there.
    """
    rest = run.dc[_SETTLING:]
    if rest.shape[0] < _LEAST_MCUS:
        return run
    span = rest.max(axis=0) - rest.min(axis=0) + 1
    jumps = np.abs(np.diff(run.dc[: _SETTLING + 1], axis=0))
    wild = np.flatnonzero((jumps > 0.8 * span).any(axis=1))
    first = int(wild[-1]) + 1 if wild.size else 0
    return reader.read(run.entropy, int(run.bits[first]), run.count - first)[0]


def _with_restarts(subject: Subject, entropy: Entropy, restarts: NDArray[np.int64], start: int) -> Estimate | None:
    """The same where restart markers stand: each interval begins anew, and its levels are absolute."""
    places = [int(entropy.mark_raw[i]) for i in restarts]
    begins = [p + 2 for p in places]
    ends = [*places[1:], entropy.end]
    for sampling in SAMPLINGS:
        reader = RunReader(_model(sampling))
        probes = [
            reader.read(read_entropy(subject.source, b, e), 0, 1 << 20)[0]
            for b, e in list(zip(begins, ends, strict=True))[:_PROBE_INTERVALS]
        ]
        counts = {run.count for run in probes[: min(len(probes), len(begins) - 1)]}
        if len(counts) != 1 or any(run.failed for run in probes):
            continue
        interval = counts.pop()
        runs = [
            reader.read(read_entropy(subject.source, b, e), 0, interval)[0] for b, e in zip(begins, ends, strict=True)
        ]
        good = next((i for i, run in enumerate(runs) if run.count != interval), len(runs))
        runs = runs[: good + 1] if good == len(runs) - 1 else runs[:good]
        if sum(run.count for run in runs) < _LEAST_MCUS:
            continue
        found = [(interval, 0.0)] if _agrees(reader, runs, interval) else _widths(reader, runs)
        if not found:
            continue
        width = found[0][0]
        first = int(entropy.mark_code[restarts[0]]) - 0xD0
        opening = reader.read(read_entropy(subject.source, start, places[0]), 0, interval)[0]
        if first == 0 and opening.count == interval and opening.ends_with_data:
            return _sized(sampling, width, 0, (opening, *runs), interval, -1, reader, start)
        bytes_each = max(1.0, (ends[len(runs) - 1] - begins[0]) / len(runs))
        near = places[0] / bytes_each
        # The marker before the first interval that is left tells its number but for whole rounds of eight.
        number = (first + 1) % 8 + 8 * max(0, round((near - (first + 1) % 8) / 8))
        return _sized(sampling, width, number * interval, tuple(runs), interval, first, reader, start)
    return None


def _edges(reader: RunReader, runs: list[Run]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """The DC steps of the luma blocks at the upper and at the lower edge of each MCU, (MCUs, blocks across)."""
    down, across = reader.shape[0]
    dc = np.concatenate([run.dc for run in runs])[:, : down * across].astype(np.float32)
    return dc[:, :across], dc[:, -across:]


def _misfit(upper: NDArray[np.float32], lower: NDArray[np.float32], width: int, most: float) -> float:
    """How much each MCU's lower edge differs from the upper edge of the one ``width`` further on; ``most`` at most."""
    return float(np.minimum(np.abs(lower[:-width] - upper[width:]), most).mean())


def _usual_difference(upper: NDArray[np.float32]) -> float:
    """What few neighbours differ by: larger steps are edges and count no more than this."""
    return max(1.0, float(np.quantile(np.abs(np.diff(upper, axis=0)), _COMMONEST)))


def _widths(reader: RunReader, runs: list[Run]) -> list[tuple[int, float]]:
    """MCUs in a row: where each MCU agrees best with the one that would stand below it; with how much better that is
    than all else (smaller is better). Empty where no width stands out.
    """
    upper, lower = _edges(reader, runs)
    widest = min(_WIDEST, upper.shape[0] // 3)
    if widest < 8:
        return []
    most = _usual_difference(upper)
    widths = np.arange(4, widest + 1)
    fits = np.array([_misfit(upper, lower, int(w), most) for w in widths])
    best = int(widths[np.argmin(fits)])
    off = np.minimum(widths % best, -widths % best)
    others = fits[(off > max(2, best // 16)) | (widths < best // 2)]
    clarity = float(fits.min()) / max(1e-9, float(others.min())) if others.size else 1.0
    return [(best, clarity)] if clarity <= _CLEAR else []


def _agrees(reader: RunReader, runs: list[Run], width: int) -> bool:
    upper, lower = _edges(reader, runs)
    if width < 4 or upper.shape[0] <= 2 * width:
        return False
    most = _usual_difference(upper)
    others = [_misfit(upper, lower, w, most) for w in (width - 2, width - 1, width + 1, width + 2) if w > 3]
    return _misfit(upper, lower, width, most) < min(others)


def _lost_before(reader: RunReader, run: Run, width: int, start: int, entropy: Entropy) -> int:
    """How many MCUs stood before the first that is left: its column from the seam, its row from the bytes lost."""
    seams = _seams(reader, run, width)
    seam = int(np.argmax(seams))
    if run.ends_with_data and seams[(run.count - 1) % width] > _COMMONEST * seams[seam]:
        seam = (run.count - 1) % width
    column = (width - 1 - seam) % width
    bytes_each = max(0.5, (run.bits[-1] - run.bits[0]) / 8 / run.count)
    missing = (start + int(run.bits[0]) // 8) / bytes_each
    return column + width * max(0, round((missing - column) / width))


def _seams(reader: RunReader, run: Run, width: int) -> NDArray[np.float64]:
    """For each place in a row of ``width`` MCUs, how much an MCU there differs from the next: most at the row's end."""
    down, across = reader.shape[0]
    luma = run.dc[:, : down * across].astype(np.float64).reshape(-1, down, across)
    jumps = np.abs(luma[:-1, :, -1] - luma[1:, :, 0]).mean(axis=1)
    jumps = np.minimum(jumps, 4.0 * max(1.0, float(np.median(jumps))))
    sums = np.bincount(np.arange(jumps.size) % width, jumps, minlength=width)
    counts = np.bincount(np.arange(jumps.size) % width, minlength=width)
    return np.asarray(sums / np.maximum(1, counts))


def _sized(
    sampling: tuple[int, int] | None,
    mcus_x: int,
    lost: int,
    runs: tuple[Run, ...],
    interval: int,
    first_mark: int,
    reader: RunReader,
    start: int,
) -> Estimate:
    across, down = sampling or (1, 1)
    have = sum(run.count for run in runs)
    rows = -(-(lost + have) // mcus_x)
    ends = runs[-1].ends_with_data
    width = _usual((mcus_x - 1) * 8 * across, mcus_x * 8 * across)
    if ends and lost and not interval:
        # How many rows are lost is known from the bytes only roughly; a usual shape nearby settles it.
        shapes = [-(-round(width / ratio) // (8 * down)) for ratio in _RATIOS]
        near_by = [r for r in shapes if 0 < abs(r - rows) <= max(1, rows // 25) and (r - rows) * mcus_x + lost >= 0]
        if near_by and rows not in shapes:
            lost, rows = lost + (near_by[0] - rows) * mcus_x, near_by[0]
    height = rows * 8 * down
    if not ends:
        # The end is cut: the next usual shape that has room for all rows that are there.
        fitting = [round(width / ratio) for ratio in _RATIOS if width / ratio >= height - 8 * down]
        height = max(height, min(fitting, default=height))
    else:
        near = [round(width / r) for r in _RATIOS if height - 8 * down < round(width / r) <= height]
        height = near[0] if near else _usual(height - 8 * down, height)
    return Estimate(sampling, width, height, mcus_x, lost, runs, interval, first_mark, _step(reader, runs), start)


def _usual(above: int, most: int) -> int:
    """A usual size above ``above`` and up to ``most``; where there is none, ``most``."""
    return next((size for size in reversed(_USUAL_WIDTHS) if above < size <= most), most)


def _step(reader: RunReader, runs: tuple[Run, ...]) -> float:
    """The quantisation of the luma DC value with which the picture has usual contrast and leaves no range."""
    upper, _ = _edges(reader, list(runs))
    low, first, last, high = (float(np.percentile(upper, p)) for p in (0.0, 0.5, 99.5, 100.0))
    wanted = 8 * 190.0 / max(8.0, last - first)
    most = 8 * 255.0 / max(8.0, high - low)
    return min(max(1.0, min(wanted, most)), 24.0)


def estimate_header(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: a header made from what the data tell, lost MCUs as neutral grey, the surviving bits unchanged."""
    from jugal.formats.jpeg.check import entropy_guess

    start = entropy_guess(subject)
    found = estimate(subject, start) if start is not None else None
    if found is None:
        raise RepairImpossible("The data does not read as a picture with the typical tables.")
    head = header(found.sampling, found.width, found.height, found.step, found.interval)
    model = walk(Source.from_bytes(head + b"\0\0"), 0)
    assert model.frame is not None
    scan, total = model.scans[0], model.frame.mcus_x * model.frame.mcus_y
    grey = neutral_mcu(model, scan)
    missing = max(0, total - found.lost - found.count)
    body: list[bytes] = []
    if found.interval:
        number = found.lost // found.interval
        for i in range(number):
            body += [pack_bits(np.tile(grey, found.interval)), bytes([0xFF, 0xD0 + i % 8])]
        for i, run in enumerate(found.runs):
            body += [bytes([0xFF, 0xD0 + (number + i - 1) % 8])] if i else []
            body += pack_parts(run.own_bits())
        done = found.lost + found.count
        while done < total:
            body += [
                bytes([0xFF, 0xD0 + (done // found.interval - 1) % 8]),
                pack_bits(np.tile(grey, min(found.interval, total - done))),
            ]
            done += min(found.interval, total - done)
    else:
        run = found.runs[0]
        whole = not found.lost and int(run.bits[0]) == 0
        lead = (
            []
            if whole
            else [
                np.tile(grey, max(0, found.lost - 1)),
                neutral_mcu(model, scan, absolute_levels(RunReader(model), run)[0]),
            ]
        )
        if not whole and not found.lost:
            lead = []
        body += pack_parts([*lead, *run.own_bits(), np.tile(grey, missing)])
    kind = {(2, 2): "4:2:0", (2, 1): "4:2:2", (1, 1): "4:4:4", (1, 2): "4:4:0"}.get(
        found.sampling or (0, 0), "one component"
    )
    return RepairDraft(
        (head, *body, spec.MARK_EOI),
        (
            f"Estimated from the data: {found.width} × {found.height} pixels, sampling {kind}, typical tables, contrast by guess.",
            f"Kept {found.count:,} blocks from byte {found.at:,} on, unchanged; wrote {found.lost + missing:,} grey ones for the rest.",
        ),
        kept=WORTH * found.share,
    )
