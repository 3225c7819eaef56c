"""Where MCUs went missing without an error, told by how many are missing at the end.

A scan that comes to its end some MCUs early has lost them inside: all behind that place stands so many too far to the front,
goes on better from those above if it is moved back, and ends its rows in another column.
"""

from __future__ import annotations

from jugal.formats.jpeg.columns import read_row_ends
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.seams import Seams

#: Nats that a loss must bring where it is known that there is one.
_LIKELY = 16.0


def find_loss(reader: RunReader, run: Run) -> int | None:
    """The MCU of a picture's one run that ends with its data from which on MCUs are missing; None where that is not plain."""
    missing, width = reader.total - run.count, reader.frame.mcus_x
    if not run.ends_with_data or not 0 < missing < reader.total:
        return None
    parting = Seams(reader, [run]).parting(0, missing, _LIKELY / 2)
    if parting is None or parting.lost > missing:
        return None
    said = parting.nats
    if parting.lost == missing:
        said += read_row_ends(reader, run).moved(parting.at // width + 1, missing)
    return parting.at if said > _LIKELY else None
