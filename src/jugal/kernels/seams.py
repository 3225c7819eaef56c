"""How well one row of MCUs goes on from another, for every number of MCUs that may be lost between them."""

from __future__ import annotations

import numpy as np
from numba import njit

#: Fewest MCUs that are compared.
FEW = 4
#: How heavy the tail of what seams may be off is: rows in which the subject changes are further from what is usual than others vary.
_TAIL = 3.0


@njit(cache=True, nogil=True)
def side_distances(one, other, raised, noise, out):  # type: ignore[no-untyped-def]
    """To float64 ``out`` (MCUs) the log of how far apart the pixels of two sides are, as a share of how much they vary.

    ``one`` and ``other`` are float32 (MCUs, pixels), ``raised``, float64 (MCUs), is by how much the pixels of ``one`` are higher
    for a reason of their own; ``noise`` is added to both sums.
    """
    pixels = one.shape[1]
    for k in range(one.shape[0]):
        mean_one = mean_other = 0.0
        for x in range(pixels):
            mean_one += one[k, x]
            mean_other += other[k, x]
        mean_one /= pixels
        mean_other /= pixels
        far = vary_one = vary_other = 0.0
        for x in range(pixels):
            far += abs(other[k, x] - one[k, x] - raised[k])
            vary_one += (one[k, x] - mean_one) ** 2
            vary_other += (other[k, x] - mean_other) ** 2
        varied = np.sqrt(vary_one / pixels) + np.sqrt(vary_other / pixels)
        out[k] = np.log((far / pixels + noise) / (varied + noise))


@njit(cache=True, nogil=True)
def row_distances(one, other, level_one, level_other, width, absolute, noise, out):  # type: ignore[no-untyped-def]
    """``side_distances`` of whole rows of ``width`` MCUs, each but for the constant by which its MCUs are mostly raised, unless
    levels are ``absolute``.

    ``level_*``, float32 (MCUs), are the means of each one's pixels. What is left behind the last whole row is not looked at.
    """
    raised = np.empty(width)
    for first in range(0, out.size - width + 1, width):
        last = first + width
        raised[:] = 0.0 if absolute else np.median(level_other[first:last] - level_one[first:last])
        side_distances(one[first:last], other[first:last], raised, noise, out[first:last])


@njit(cache=True, nogil=True)
def seam_scores(  # type: ignore[no-untyped-def]
    above, below, varied_above, varied_below, width, absolute, near, deviation, noise, most_said, each, whole, out
):
    """Adds to float64 ``out`` (numbers of lost MCUs) what the pixels at a seam say for neighbours, in nats.

    ``above`` (MCUs, pixels), float32, are the lower sides of the last MCUs ahead of the gap, ``below`` the upper sides of the
    first behind it; ``varied_*`` how much the pixels of each vary. What counts is the log of how far apart two sides are for as
    much as they vary, less the mean of that for the lower one and all columns. ``near`` (rows, 2) holds its mean for MCUs that
    many rows apart and the deviation of whole rows from it (none: not known), ``deviation`` that of single MCUs. What one MCU
    says counts ``each`` and is limited to ``most_said``; how far the seam is from what is usual counts ``whole``. Rows next to one
    another must be known.
    """
    known, length = above.shape[0], min(width, below.shape[0])
    pixels = above.shape[1]
    apart, usual, seen = np.full((width, length), np.float32(np.nan)), np.zeros(length), np.zeros(length)
    means = np.empty(length)
    for column in range(width):
        for part in range(2):
            # With so many lost beyond whole rows, the first MCUs stand under the last row, the others under the one before it.
            shift = known + column - (part + 1) * width
            low, high = max(0, part * width - column, -shift), min(length, (part + 1) * width - column)
            if high - low < FEW:
                continue
            for k in range(low, high):
                total = 0.0
                for x in range(pixels):
                    total += below[k, x] - above[k + shift, x]
                means[k] = total / pixels
            raised = 0.0 if absolute else np.median(means[low:high])
            for k in range(low, high):
                total = 0.0
                for x in range(pixels):
                    total += abs(below[k, x] - above[k + shift, x] - raised)
                distance = np.log((total / pixels + noise) / (varied_below[k] + varied_above[k + shift] + noise))
                apart[column, k] = distance
                usual[k] += distance
                seen[k] += 1.0
    for gone in range(out.size):
        rows, column = gone // width, gone % width
        if rows >= near.shape[0]:
            break
        count, off, row_level = 0, 0.0, 0.0
        for k in range(length):
            own = rows + (1 if k >= width - column else 0)
            if np.isnan(apart[column, k]) or own >= near.shape[0] or near[own, 1] <= 0.0:
                continue
            off += apart[column, k] - usual[k] / seen[k] - near[own, 0]
            row_level += near[own, 1]
            count += 1
        if count < FEW:
            continue
        off, row_level = off / count, row_level / count
        said = 0.0
        for k in range(length):
            own = rows + (1 if k >= width - column else 0)
            if np.isnan(apart[column, k]) or own >= near.shape[0] or near[own, 1] <= 0.0:
                continue
            less = apart[column, k] - usual[k] / seen[k]
            beyond = less - near[own, 0] - off
            ratio = 0.5 * (less * less - beyond * beyond) / (deviation * deviation)
            said += min(most_said, max(-most_said, ratio))
        unusual = 0.5 * (_TAIL + 1.0) * np.log1p(off * off / (_TAIL * row_level * row_level))
        out[gone] += each * said - whole * (unusual + np.log(row_level / near[0, 1]))
