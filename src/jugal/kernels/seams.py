"""How well one row of MCUs goes on from another, for every number of MCUs that may be lost between them."""

from __future__ import annotations

import numpy as np
from numba import njit

#: Fewest MCUs that are compared.
FEW = 4


@njit(cache=True, nogil=True)
def seam_scores(above, below, varied_above, varied_below, width, near, far, noise, most_said, weight, out):  # type: ignore[no-untyped-def]
    """Adds to float64 ``out`` (numbers of lost MCUs) what the pixels at a seam say for neighbours, in nats times ``weight``.

    ``above`` (MCUs, pixels), float32, are the lower sides of the last MCUs ahead of the gap, ``below`` the upper sides of the
    first behind it; ``varied_*`` how much the pixels of each vary. ``near`` (rows, 2) holds mean and deviation of the log of
    how far apart MCUs that many rows apart are for as much as they vary (no deviation: not known), ``far`` those of strangers.
    What one MCU says is limited to ``most_said``.
    """
    known, length = above.shape[0], min(width, below.shape[0])
    pixels = above.shape[1]
    means = np.empty(length)
    for gone in range(1, out.size):
        first = gone // width + 1
        if first > near.shape[0]:
            break
        for rows in range(first, min(first + 2, near.shape[0] + 1)):
            deviation = near[rows - 1, 1]
            if deviation <= 0.0:
                continue
            shift = known + gone - rows * width
            low, high = max(0, (rows - 1) * width - gone, -shift), min(length, rows * width - gone)
            if high - low < FEW:
                continue
            for k in range(low, high):
                total = 0.0
                for x in range(pixels):
                    total += below[k, x] - above[k + shift, x]
                means[k] = total / pixels
            raised = np.median(means[low:high])
            said = 0.0
            for k in range(low, high):
                total = 0.0
                for x in range(pixels):
                    total += abs(below[k, x] - above[k + shift, x] - raised)
                apart = np.log((total / pixels + noise) / (varied_below[k] + varied_above[k + shift] + noise))
                off, strange = (apart - near[rows - 1, 0]) / deviation, (apart - far[0]) / far[1]
                ratio = 0.5 * (strange * strange - off * off) + np.log(far[1] / deviation)
                said += min(most_said, max(-most_said, ratio))
            out[gone] += weight * said
