"""Where MCUs went missing without an error, or came that are none of the picture's, told by how many the scan has in all.

A scan that comes to its end some MCUs early has lost them inside: all behind that place stands so many too far to the front,
goes on better from those above if it is moved back, and ends its rows in another column. One that has some too many got them inside.
"""

from __future__ import annotations

from jugal.formats.jpeg.columns import read_row_ends
from jugal.formats.jpeg.parse import Entropy
from jugal.formats.jpeg.runs import Run, RunReader
from jugal.formats.jpeg.seams import Seams

#: Nats that a loss must bring where it is known that there is one, and one of fewer MCUs than are missing, for which there must be
#: another: an edge of the subject along half a row may look like it.
_LIKELY, _PART = 16.0, 60.0
#: MCUs too many that are looked for; where a whole cluster came in, what it holds tells more.
_MOST_EXTRA = 64


def read_with_extra(reader: RunReader, entropy: Entropy, bit: int) -> Run:
    """All MCUs of a scan from ``bit`` on, and some behind the picture's last one."""
    return reader.read(entropy, bit, reader.total + _MOST_EXTRA + 1)[0]


def find_loss(reader: RunReader, run: Run) -> int | None:
    """The MCU of a picture's one run that ends with its data at which MCUs are missing, or the first of those too many; None where that
    is not plain."""
    missing, width = reader.total - run.count, reader.frame.mcus_x
    if not run.ends_with_data or not -_MOST_EXTRA <= missing < reader.total or not missing:
        return None
    seams, lost, extra = Seams(reader, [run]), max(0, missing), max(0, -missing)
    whole = seams.parting(0, lost, _LIKELY / 2, extra, exactly=True)
    if whole is not None:
        said = whole.nats + read_row_ends(reader, run).moved(whole.at // width + 1, missing)
        if said > _LIKELY:
            return max(0, whole.at - extra)
    part = seams.parting(0, lost, _PART)
    return None if part is None else part.at
