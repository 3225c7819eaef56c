"""Hot pure functions on buffers, compiled with Numba. No input or output, no findings."""
