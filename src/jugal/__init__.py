"""Jugal examines, scores, repairs and hands over recovered files."""

import os

# Files are examined side by side, a core each: matrix products that begin threads of their own only get in one another's way.
# It must be said before NumPy is loaded.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.1.0"
