"""Repairs of still pictures in boxes: where their items lie, and previews taken out."""

from __future__ import annotations

from jugal.formats.base import RepairDraft, RepairImpossible, Report, Subject
from jugal.formats.isobmff.boxes import read_tree
from jugal.formats.isobmff.check import examine
from jugal.formats.isobmff.heif import find_moved
from jugal.formats.isobmff.items import item_extents, read_items
from jugal.formats.isobmff.write import patched
from jugal.formats.jpeg.parse import Structure
from jugal.formats.jpeg.preview import largest_preview

_MOST_ILOC = 1 << 22


def fix_items(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: the offsets of items written where their units make sense, in the index as it stands."""
    meta = read_tree(subject.source, 0, subject.limits).first(b"meta")
    iloc = meta.child(b"iloc") if meta else None
    items = read_items(subject.source, meta) if meta else None
    if meta is None or iloc is None or items is None:
        raise RepairImpossible("The item locations are not in the file.")
    moved = find_moved(subject, meta, items)
    patches, steps = [], []
    for extent in item_extents(subject.source.read(iloc.body, min(iloc.end - iloc.body, _MOST_ILOC))) or []:
        value = moved.get(extent.item, extent.offset) - extent.base
        if extent.item not in moved or extent.method or not 0 <= value < 1 << 8 * extent.width:
            continue
        patches.append((iloc.body + extent.place, value.to_bytes(extent.width, "big")))
        steps.append(f"Moved item {extent.item} from {extent.offset:,} to {moved[extent.item]:,}.")
    if not patches:
        raise RepairImpossible("No item makes sense elsewhere than where it is said to lie.")
    return RepairDraft(patched(subject, patches), tuple(steps))


def extract_preview(subject: Subject, donor: Subject | None) -> RepairDraft:
    """Repair: the largest whole JPEG picture in the file, as a file of its own."""
    preview = largest_preview(subject, Structure(0, False))
    if preview is None:
        raise RepairImpossible("No whole preview lies in the file.")
    step = f"Took the preview of {preview.width} × {preview.height} pixels, bytes {preview.span.start:,} to {preview.span.end:,}."
    report = Report()
    examine(subject, report)
    planned = report.forecast("extract-preview", preview.share)
    return RepairDraft((preview.span,), (step,), suffix="jpg", kept=planned)
