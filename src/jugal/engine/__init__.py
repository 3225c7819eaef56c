"""Examining many files, repairing them, handing them over: what window and command line share."""
