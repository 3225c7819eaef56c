"""Bytes in, bytes out. Knows no format."""
