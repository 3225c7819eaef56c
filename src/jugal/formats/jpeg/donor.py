"""A header lost in part or whole, lent by a healthy picture of the same camera and settings.

The donor's tables, frame and scan header go before the entropy-coded data that is left; of what tells of the donor's own
taking nothing goes along. Where the data's first part is lost too, decoding is taken up where it falls into step, and the
rest is placed by its end, which is the picture's.
"""

from __future__ import annotations

from dataclasses import replace
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from jugal.formats.base import RepairDraft, RepairImpossible, Subject
from jugal.formats.jpeg import intervals, spec
from jugal.formats.jpeg.check import entropy_guess
from jugal.formats.jpeg.colours import levels_shown
from jugal.formats.jpeg.completing import complete_header, complete_scans, kept_with, search, steps_of
from jugal.formats.jpeg.decode import decode
from jugal.formats.jpeg.entropy import neutral_mcu, neutral_tables, with_entropy
from jugal.formats.jpeg.gamut import absolute_levels
from jugal.formats.jpeg.parse import HuffmanTable, Structure, read_entropy, walk
from jugal.formats.jpeg.refit import PADDING, segments_of
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.select import decodable, select
from jugal.kernels.stuffing import pack_parts
from jugal.model import scoring
from jugal.model.span import ByteSpan

_SECTOR = 512
_LEAST_UNITS = 2
#: From how sure and how far the levels that a picture most likely has lie from those it would have, it is not whole.
_SURE, _FAR_LEVELS = 0.6, 24.0


def donor_header(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: the donor's header before the data, grey for what is lost of them at the start."""
    if donor is None:
        raise RepairImpossible("This repair needs a healthy picture of the same camera and settings.")
    model = walk(donor.source, 0)
    frame = model.frame
    if (completed := complete_header(subject, donor, model)) is not None:
        return completed
    guess = entropy_guess(subject)
    # Data that begin at a sector's border were overwritten up to there.
    if guess is not None and (guess % _SECTOR or guess in [s.entropy.start for s in model.scans[:1]]):
        completed = complete_scans(subject, donor, model, guess)
        if completed is not None:
            return completed
    if not decodable(model) or len(model.scans) != 1 or frame is None or frame.marker not in spec.SEQUENTIAL:
        raise RepairImpossible("The donor's coding cannot lend its header.")
    header = _lent_header(donor, model)
    own = select(subject.source).structure
    if own.scans and own.entropy_bytes > 0.5 * subject.size and len(own.scans) == 1 and not own.missing_tables():
        return _kept_from(header, subject, own.scans[0].entropy.start)
    total = frame.mcus_x * frame.mcus_y
    starts = [s.entropy.start for s in own.scans[:1]] + [model.scans[0].entropy.start] + ([guess] if guess else [])
    best, at = 0, -1
    # Of starts from which all of it decodes a later one only lacks what is in step again soon.
    for start in sorted(set(starts)):
        # Zeros may decode without an error, but what they decode to is nothing of the picture.
        ahead = subject.source.array[start : guess or 0]
        filled = bool(ahead.size and (ahead == ahead[0]).all())
        filled = filled or any(f.span.start <= start < f.span.end for f in subject.blocks.fills)
        if start >= subject.size or filled:
            continue
        done, left = _decoded(subject, model, start)
        if done == total and left < PADDING:
            # Filler that ends at a sector's border may reach into the data, and what is left of them still decode to as many
            # MCUs; not where it ends with the donor's header, nor where the first interval has as many as it should.
            usual = start == model.scans[0].entropy.start or model.scans[0].restart_interval
            filler = start == guess and start > 0 and start % _SECTOR == 0
            run = _late_run(subject, model, start, total) if filler and not usual else None
            if run is not None:
                # It is asked of what a decoder makes of them from there: of a whole picture the first MCU may not be the first that is sure.
                reader = RunReader(model)
                if _off_level(donor, model, reader.read(read_entropy(subject.source, start), 0, total)[0]):
                    return _late_start(donor, model, header, run, total)
            return _kept_from(header, subject, start)
        if done > best:
            best, at = done, start
    # Data that begin at a sector's border were overwritten up to there, and their first part is lost with the header.
    late = at < 0 or (at == guess and at % _SECTOR == 0 and not own.scans)
    if guess is not None and not own.scans:
        if model.scans[0].restart_interval:
            return _intervals_behind(subject, model, header, guess)
        run = _late_run(subject, model, guess, total)
        # What begins at the header's end and goes on as far is the whole; by chance it may decode from there as well.
        if run is not None and (late or (run.ends_with_data and run.count > best) or run.count > total):
            return _late_start(donor, model, header, run, total)
        if best < total and (draft := _with_sought_tables(subject, donor, model, guess)) is not None:
            return draft
    if best < _LEAST_UNITS:
        raise RepairImpossible("With this donor's tables the data does not decode.")
    return _kept_from(header, subject, at)


def _with_sought_tables(subject: Subject, donor: Subject, model: Structure, start: int) -> RepairDraft | None:
    """The donor's header with other Huffman tables, found from the data that begin at byte ``start``; None where none were."""
    lent = replace(model, scans=[with_entropy(model.scans[0], read_entropy(subject.source, start))])

    def draft(tables: dict[int, HuffmanTable]) -> RepairDraft:
        return _kept_from(_lent_header(donor, model, tables), subject, start)

    found = search(subject, lent, model, lambda tables: draft(tables).pieces)
    if found is None:
        return None
    made = draft(found.tables)
    return replace(made, steps=(*steps_of(found), *made.steps), kept=kept_with(found))


def _kept_from(header: bytes, subject: Subject, start: int) -> RepairDraft:
    end = read_entropy(subject.source, start).end
    return RepairDraft(
        (header, ByteSpan(start, end), spec.MARK_EOI),
        ("Wrote the donor's header.", f"Kept the entropy-coded data, bytes {start:,} to {end:,}."),
    )


def _lent_header(donor: Subject, model: Structure, tables: dict[int, HuffmanTable] | None = None) -> bytes:
    """SOI, then the donor's segments but for those that tell of its own taking (Exif, previews, comments), with its Huffman tables
    or others."""
    parts = [spec.MARK_SOI]
    for segment in model.segments:
        if tables is not None and segment.marker == spec.SOS:
            parts.append(segments_of(tables))
        if tables is not None and segment.marker == spec.DHT:
            continue
        if segment.marker in (spec.APP0, spec.APP14) or segment.marker in spec.SOF or segment.marker in (
            spec.DQT, spec.DHT, spec.DRI, spec.SOS,
        ):  # fmt: skip
            parts.append(donor.source.read(segment.start, segment.end - segment.start))
            if segment.marker == spec.SOS:
                break
    return b"".join(parts)


def _decoded(subject: Subject, model: Structure, start: int) -> tuple[int, int]:
    """MCUs that decode without an error from byte ``start`` with the donor's tables, and the bits that are left behind them."""
    assert model.frame is not None
    scan = with_entropy(model.scans[0], read_entropy(subject.source, start))
    decoded = decode(model.frame, [scan], model.quant, careful=True).scans[0]
    return int(decoded.done.sum()), decoded.bits_left


def _late_run(subject: Subject, model: Structure, start: int, total: int) -> Run | None:
    """The MCUs from the first on that surely begins behind byte ``start``."""
    reader, entropy = RunReader(model), read_entropy(subject.source, start)
    bit = reader.in_step(subject, start, entropy.end)
    if bit is None:
        return None
    run = reader.follow(entropy, bit, total + 1)
    return run if run.count >= _LEAST_UNITS else None


def _late_start(donor: Subject, model: Structure, header: bytes, run: Run, total: int) -> RepairDraft:
    """Grey MCUs for what is lost at the start, then the surviving bits moved behind them."""
    lent, frame = model, RunReader(model).frame
    model, added = neutral_tables(model)
    scan = model.scans[0]
    at = len(header) - (scan.segment.end - scan.segment.start)
    header = header[:at] + added + header[at:]
    lost = total - run.count
    if lost < 0:
        raise RepairImpossible("More picture data is left than the donor's size has room for.")
    prefix, sure = [np.tile(neutral_mcu(model, scan), max(0, lost - 1))], 1.0
    if lost:
        offsets, sure = _likeliest_levels(donor, lent, run)
        prefix.append(neutral_mcu(model, scan, offsets.tolist()))
    begin = int(run.entropy.raw_offsets(run.bits[:1] >> 3)[0])
    return RepairDraft(
        (header, *pack_parts(chain(prefix, run.own_bits())), spec.MARK_EOI),
        (
            "Wrote the donor's header.",
            f"Wrote {lost:,} grey blocks for the part that is lost.",
            f"Moved {run.bit_count:,} bits of picture data from byte {begin:,} behind them, unchanged.",
            "Estimated the brightness and tint of the whole, which the lost part carried.",
        ),
        # The absolute levels went with the start, so the colours are an estimate.
        kept=scoring.share(sure * frame.covered(lost, total), frame.pixels),
    )


def _off_level(donor: Subject, model: Structure, run: Run) -> bool:
    """Whether the levels that a run has if it is the picture's start surely are not those of the picture."""
    offsets, sure = _likeliest_levels(donor, model, run)
    return sure > _SURE and levels_shown((offsets * RunReader(model).steps).tolist()) > _FAR_LEVELS


def _likeliest_levels(donor: Subject, model: Structure, run: Run) -> tuple[NDArray[np.int64], float]:
    """Per component what to add to the DC values of a run that begins the picture, as ``absolute_levels`` says."""
    reader = RunReader(model)
    # The run counts from where it begins, whatever was read before it to fall into step.
    run = reader.read(run.entropy, int(run.bits[0]), run.count)[0]
    offsets, sure = absolute_levels(reader, run, _levels_of(donor, model, reader))
    return np.array(offsets, np.int64), sure


def _levels_of(donor: Subject, model: Structure, reader: RunReader) -> list[NDArray[np.float64]]:
    """Per component the mean levels of all the donor's blocks, mid-grey at 0."""
    assert model.frame is not None
    lent = decode(model.frame, model.scans, model.quant)
    return [plane.ravel().astype(np.float64) * step for plane, step in zip(lent.dc, reader.steps, strict=True)]


def _intervals_behind(subject: Subject, model: Structure, header: bytes, start: int) -> RepairDraft:
    """Every whole restart interval that is left in its place, neutral ones for those that are lost."""
    scan = with_entropy(model.scans[0], read_entropy(subject.source, start))
    lent = replace(model, scans=[scan], start=start, eoi=None)
    found = intervals.find_intervals(subject, lent)
    if found is None:
        raise RepairImpossible("With this donor's tables no interval between restart markers decodes.")
    draft = intervals.written(found, lent, (header,))
    return replace(draft, steps=("Wrote the donor's header.", *draft.steps))
