"""Pure values that every other layer speaks in. Imports nothing of the project."""
