"""Jugal examines, scores, repairs and hands over recovered files."""

__version__ = "0.1.0"
